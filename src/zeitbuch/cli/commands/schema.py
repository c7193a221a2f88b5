"""The work of `schema`."""

from __future__ import annotations

import argparse

import msgspec

from zeitbuch.app.schemas import schema_of
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.stream import write_output


def run(args: argparse.Namespace) -> int:
    """One schema."""
    write_output(msgspec.json.format(msgspec.json.encode(schema_of(args.name)), indent=2).decode() + "\n", args.output)
    return OK
