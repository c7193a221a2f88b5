"""The work of `init`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from zeitbuch.app.workspace_files import workspace_files
from zeitbuch.cli.shared.session import finish_session, open_session, this_month
from zeitbuch.cli.shared.stream import write_output


def run(args: argparse.Namespace) -> int:
    """The three files, those that are there already kept."""
    session = open_session(args)
    folder = Path(args.into)
    for name, text in workspace_files(session, args.source, args.dialect, args.into, this_month()).items():
        path = folder / name
        if path.exists():
            print(f"kept     {path} (it was there)")
        else:
            write_output(text, str(path))
            print(f"written  {path}")
    if not args.quiet:
        print("next: fill in prices and volumes, then `zeitbuch estimate`", file=sys.stderr)
    return finish_session(session, args)
