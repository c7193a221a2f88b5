"""Write a commented workspace into a folder: zeitbuch.toml, rates.toml, assumptions.toml. Existing files are kept."""

from __future__ import annotations

import argparse
import sys

from .common import Session, add_reading

EXAMPLE = """\
examples:
  zeitbuch init
  zeitbuch init exports/ --dialect builder.toml    with the models and flows found there filled in"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="SOURCE", nargs="*", help="exports to fill in models and flows from")
    parser.add_argument("--into", metavar="FOLDER", default=".", help="where to write (default: the current folder)")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    import os
    from pathlib import Path

    from zeitbuch.core.assumptions.rules import Assumptions
    from zeitbuch.core.estimate.estate import estimate
    from zeitbuch.writers.exchange import templates

    from . import stream

    session = Session(args)
    models: list[str] = []
    volumes: list[str] = []
    if args.source:
        estate = session.estate(args.source)
        models = sorted({s.model.name for f in estate.flows for s in f.steps if s.model is not None and s.model.name})
        volumes = [f.name for f in estimate(estate, None, Assumptions()).flows if f.runs is None]
    folder = Path(args.into)

    def seen_from(path: str) -> str:
        return Path(os.path.relpath(path, folder)).as_posix()

    texts = {
        "zeitbuch.toml": templates.workspace([seen_from(s) for s in args.source], [seen_from(d) for d in args.dialect]),
        "rates.toml": templates.rates(models),
        "assumptions.toml": templates.assumptions(volumes),
    }
    for name, text in texts.items():
        path = folder / name
        if path.exists():
            print(f"kept     {path} (it was there)")
        else:
            stream.write(text, str(path))
            print(f"written  {path}")
    if not args.quiet:
        print("next: fill in prices and volumes, then `zeitbuch estimate`", file=sys.stderr)
    return session.finish()
