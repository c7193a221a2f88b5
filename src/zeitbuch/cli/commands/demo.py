"""The work of `demo`."""

from __future__ import annotations

import argparse
import contextlib
import os
import shlex
from importlib.resources import as_file, files
from pathlib import Path

from zeitbuch.cli.main import parse_options, perform, tell_error
from zeitbuch.cli.shared.exit_codes import OK, WRONG
from zeitbuch.cli.shared.stream import write_output
from zeitbuch.core.model.problems import ZeitbuchError, fail

STEPS = (
    "zeitbuch inventory",
    "zeitbuch map -o maps",
    "zeitbuch map --flow 'Lost property matching' -o maps/lost-property-matching.png",
    "zeitbuch map --flow 'Lost property matching' -o lost-property.html",
    "zeitbuch map --estate -o estate.svg",
    "zeitbuch map --flow 'Weather warnings' --format text",
    "zeitbuch explain 'Berth delay notices' 'By severity'",
    "zeitbuch explain 'Crew swap approvals' --case allowed --fails 'Change the rota'",
    "zeitbuch estimate",
    "zeitbuch estimate --flow 'Cargo papers screening' --steps",
    "zeitbuch estimate -o cost.png",
    "zeitbuch estimate --chart months -o months.png",
    "zeitbuch estimate --why 'Customer letters/Refund agent'",
    "zeitbuch compare --scenario scenarios/small-model.toml --scenario scenarios/own-machine.toml",
    "zeitbuch compare --propose",
    "zeitbuch diff october november",
    "zeitbuch diff october november -o changes.html",
    "zeitbuch diff copies --clones",
    "zeitbuch check faults --top 12",
    "zeitbuch list tools",
    "zeitbuch impact model:fulmar-mini-2 --map impact.svg",
    "zeitbuch usage test",
    "zeitbuch reconcile",
    "zeitbuch calibrate -o measured.toml --quiet",
    "zeitbuch map --flow 'Crew swap approvals' --show runs --mapping usage/steps.toml -o swaps.svg",
    "zeitbuch record october --at 2026-10-31 --by 'Maren Dahl'",
    "zeitbuch record --at 2026-11-24 --by 'Maren Dahl'",
    "zeitbuch history",
    "zeitbuch document -o documents",
)
OPEN = (
    ("documents/index.html", "a document for each flow, with its map"),
    ("lost-property.html", "a map as a page: fold, search, click a step"),
    ("estate.svg", "all flows and their calls"),
    ("maps/index.html", "maps of all flows as SVG, one as PNG"),
    ("cost.png", "monthly cost by flow"),
    ("months.png", "the next twelve months, over a price change and a move to another host"),
    ("changes.html", "what changed from October to November, in words and on maps"),
    ("impact.svg", "what follows when a model is gone"),
    ("book.sqlite", "the book with both months: zeitbuch history, diff @1 @2, restore"),
    ("zeitbuch.toml", "the workspace: run any command within this folder"),
)


def run(args: argparse.Namespace) -> int:
    """Write the files and run the commands on them, each shown as typed."""
    folder = Path(args.folder)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())) and not args.force:
        raise fail(
            "demo-folder",
            f"expected a new or empty folder, found {folder} with contents",
            "name another folder, or add --force",
        )
    with as_file(files("zeitbuch.demo") / "estate") as estate:
        for path in sorted(estate.rglob("*")):
            if path.is_file():
                write_output(path.read_bytes(), str(folder / path.relative_to(estate)))
    print(
        f"The demo estate is in {folder}{os.sep}: exports of October and November, dialects, rates, assumptions, usage logs."
    )
    return OK if args.write_only else _run_steps(folder)


def _run_steps(folder: Path) -> int:
    worst = OK
    with contextlib.chdir(folder):
        print(f"\n$ cd {shlex.quote(str(folder))}")
        for line in STEPS:
            print(f"\n$ {line}", flush=True)
            status = _run_step(line)
            worst = WRONG if status == WRONG else worst
    made = [(name, words) for name, words in OPEN if (folder / name).exists()]
    print("\nOpen next:")
    size = max(len(name) for name, _ in made)
    for name, words in made:
        print(f"  {folder / name!s:<{size + len(str(folder)) + 1}}  {words}")
    return worst


def _run_step(line: str) -> int:
    """One command as typed; what needs a library that is not installed is left out, and told, and so is what asks for its results."""
    _, name, *rest = shlex.split(line)
    args = parse_options(name, rest)
    try:
        return perform(name, args)
    except ZeitbuchError as error:
        if error.problem.code not in ("library-missing", "book-none"):
            return tell_error(name, args, error)
        print(f"(left out: {error.problem.message}; {error.problem.hint})")
        return OK
