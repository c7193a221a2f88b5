"""Write the demo estate (a made-up ferry line) into a folder and run the commands on it, each shown as typed."""

from __future__ import annotations

import argparse

EXAMPLE = """\
example:
  zeitbuch demo out"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", metavar="FOLDER", nargs="?", default="zeitbuch-demo", help="where to write (default: zeitbuch-demo)"
    )
    parser.add_argument("--write-only", action="store_true", help="write the files, run nothing")
    parser.add_argument("--force", action="store_true", help="write into a folder that is not empty")
