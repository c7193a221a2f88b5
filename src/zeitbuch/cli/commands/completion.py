"""The work of `completion`."""

from __future__ import annotations

import argparse

from argcomplete.shell_integration import shellcode

from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.stream import write_output


def run(args: argparse.Namespace) -> int:
    """The script of one shell."""
    write_output(shellcode(["zeitbuch"], shell=args.shell) + "\n", None)
    return OK
