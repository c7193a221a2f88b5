# `diff --twins`: copies within one estate instead of two versions.
"""The part of `diff` that looks for copies."""

from __future__ import annotations

import argparse

from .common import Session, chosen_format, pick
from .main import NO, OK

FORMATS = ("text", "markdown", "json")


def run_twins(args: argparse.Namespace) -> int:
    """Copies in the sources named; the answer is no when something was left as it was."""
    from zeitbuch.core.diff.clones import TwinsResult, twins
    from zeitbuch.core.model.problems import fail
    from zeitbuch.writers.changes import clones as writer
    from zeitbuch.writers.table import tables

    from . import stream

    if args.new is not None or args.only or args.summary or args.fail_on or args.max_increase:
        raise fail(
            "option",
            "expected --twins with one source and no options of a comparison, found more",
            "--twins takes --flow, --evidence, --format and -o",
        )
    form = chosen_format(args, FORMATS, "text")
    if form not in FORMATS:
        raise fail("format", f"expected one of the formats {', '.join(FORMATS)} with --twins, found '{form}'")
    session = Session(args)
    estate = session.estate([args.old])
    flows = [pick(estate, args.flow)] if args.flow else list(estate.flows)
    with session.progress(1, "comparing"):
        found = twins(flows)
    if form == "json":
        out = tables.to_json("twins", TwinsResult(tuple(found)))
    elif form == "markdown":
        out = writer.to_markdown(found)
    else:
        out = writer.to_text(found, stream.width(), stream.colour_wanted(), args.evidence)
    stream.write(out, args.output)
    return session.finish(NO if any(t.left for t in found) else OK)
