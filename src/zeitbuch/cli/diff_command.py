"""Say what changed in meaning between two versions of exports; layout, time stamps, ids given anew and file order do not
count. A version is a file, folder, package, git:REV[:PATH], or @N, @latest, @DATE of the book."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from .common import Session, add_output, add_reading, chosen_format
from .estimate_command import add_figures, counters_of, figures
from .main import NO, OK

if TYPE_CHECKING:
    from zeitbuch.core.assumptions.rules import Assumptions
    from zeitbuch.core.diff.matching import FlowMatching
    from zeitbuch.core.diff.records import EstateChanges, FlowChanges
    from zeitbuch.core.model.records import Estate, Flow
    from zeitbuch.core.pricing.rate_card import RateCard

FORMATS = ("text", "markdown", "json", "html", "csv")
EXAMPLE = """\
examples:
  zeitbuch diff october/ november/
  zeitbuch diff october/ november/ -o changes.html        both maps, every word
  zeitbuch diff @latest                                   the book against the workspace's sources
  zeitbuch diff git:HEAD~1:exports exports/ --summary     one line a flow
  zeitbuch diff @3 @latest --only trigger,prompt,model
  zeitbuch diff october/ november/ --fail-on risk --max-increase 10%
  zeitbuch diff november/ --twins                         copies, and where they differ

topics of --only: flow, trigger, step, link, prompt, model, input, connection, failure, rights, unread, note
exit status: 0 no change of meaning (or none that --fail-on asks for); 1 there is; 2 wrong use or unreadable input"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "old", metavar="OLD", help="the older version: file, folder, package, git:REV[:PATH], @N, @DATE"
    )
    parser.add_argument(
        "new", metavar="NEW", nargs="?", help="the newer version; without it, the workspace's sources as they are"
    )
    group = parser.add_argument_group("what to show")
    group.add_argument(
        "--only", metavar="TOPIC,...", action="append", default=[], help="only changes of these topics; see below"
    )
    group.add_argument("--flow", metavar="NAME", help="only this flow (id or name)")
    group.add_argument("--summary", action="store_true", help="one line a flow")
    group.add_argument("--evidence", action="store_true", help="say where each change stands in the exports (text)")
    group.add_argument(
        "--no-shares", action="store_true", help="do not count what each change adds by itself, only the flow"
    )
    group.add_argument(
        "--twins", action="store_true", help="instead of versions: near-identical flows, steps, prompts of OLD"
    )
    group = parser.add_argument_group("when the answer is no")
    group.add_argument(
        "--fail-on",
        choices=("any", "risk", "cost"),
        help="exit status 1 on any change (default), on changes that ask for a close look, or when a flow costs more",
    )
    group.add_argument(
        "--max-increase",
        metavar="N%|N",
        help="exit status 1 when a changed flow costs over N %% more, or all together over N more a month",
    )
    parser.add_argument(
        "--month", metavar="YYYY-MM", default="", help="month of the cost figures; default as in `estimate`"
    )
    add_figures(parser)
    add_output(parser, FORMATS, "text")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.diff import policy
    from zeitbuch.core.diff.estate_changes import changes
    from zeitbuch.core.diff.matching import match_flows
    from zeitbuch.core.model.problems import fail

    if args.twins:
        from .twins import run_twins

        return run_twins(args)
    form = chosen_format(args, FORMATS, "text")
    if form == "csv" and not args.summary:
        raise fail(
            "option", "expected --summary beside CSV, found none", "changes by word are text, Markdown, HTML or JSON"
        )
    wanted = policy.topics(args.only)
    most = policy.limit(args.max_increase) if args.max_increase else None
    session = Session(args)
    card, assumptions, problems = figures(args, session)
    if card is None and (args.fail_on == "cost" or most is not None):
        raise fail(
            "rates-none", "expected a rate card to tell whether cost grew, found none", "name one with --rates FILE"
        )
    old, new = session.versions(args.old, args.new)
    session.reader.problems += problems
    shown = _narrowed(old, new, args.flow) if args.flow else (old, new)
    matching = match_flows(shown[0].flows, shown[1].flows)
    found = policy.only(changes(*shown, matching), wanted)
    if found.flows:
        found = _figured(args, session, found, old, new, matching, card, assumptions)
    currency = card.currency if card is not None else ""
    refused = policy.refusals(found, args.fail_on or "any", most, currency)
    _write(args, form, found, matching, currency, refused)
    if refused and (args.fail_on or most is not None):
        from zeitbuch.writers.escape.text import inert

        for sentence in refused:
            print(f"no: {inert(sentence, keep_lines=False)}", file=sys.stderr)
    return session.finish(NO if refused else OK)


def _narrowed(old: Estate, new: Estate, name: str) -> tuple[Estate, Estate]:
    """Both versions with the one flow, however it was called in the older one."""
    from zeitbuch.core.diff.matching import match_flows
    from zeitbuch.core.model.records import Estate

    from .common import pick

    flow = new.flow(name) or old.flow(name) or pick(new, name)
    for pair in match_flows(old.flows, new.flows).pairs:
        if flow is pair.new or flow is pair.old:
            return Estate((pair.old,)), Estate((pair.new,))
    return (Estate((flow,)), Estate()) if flow in old.flows else (Estate(), Estate((flow,)))


def _figured(
    args: argparse.Namespace,
    session: Session,
    found: EstateChanges,
    old: Estate,
    new: Estate,
    matching: FlowMatching,
    card: RateCard | None,
    assumptions: Assumptions,
) -> EstateChanges:
    """The changes with what they do to calls and cost."""
    from zeitbuch.core.diff.change_cost import Costing, with_figures

    counters: Any = counters_of(args, session, card)
    before = Costing.of(old, card, assumptions, args.month, counters)
    after = Costing.of(new, card, assumptions, args.month, counters)
    each = not (args.no_shares or args.summary)
    with session.progress(len(found.flows), "counting") as bar:
        return with_figures(found, before, after, matching, each, bar.at)


def _write(
    args: argparse.Namespace,
    form: str,
    found: EstateChanges,
    matching: FlowMatching,
    currency: str,
    refused: list[str],
) -> None:
    from zeitbuch.writers.changes import text as writer
    from zeitbuch.writers.table import tables

    from . import stream

    if form == "json":
        from zeitbuch.core.report.results import DiffResult

        result = DiffResult(bool(found.flows), currency, found.flows, found.unchanged, tuple(refused))
        stream.write(tables.to_json("diff", result), args.output)
        return
    if args.summary and form != "html":
        from zeitbuch.core.report.change_tables import summary_sheet

        sheet = summary_sheet(found, currency)
        stream.write_sheet(sheet, "table" if form == "text" else form, args.output)
        return
    if form == "html":
        from zeitbuch.core.diff.estate_changes import versions_of
        from zeitbuch.writers.changes.page import to_changes_page

        sides = {} if args.summary else dict(zip(map(id, found.flows), versions_of(found, matching), strict=True))
        out = to_changes_page(found, currency, lambda f: _maps(f, *sides.get(id(f), (None, None))))
    elif form == "markdown":
        out = writer.to_markdown(found, currency)
    else:
        out = writer.to_text(found, currency, stream.width(), stream.colour_wanted(), args.evidence)
    stream.write(out, args.output)


def _maps(flow: FlowChanges, old: Flow | None, new: Flow | None) -> Any:
    """The maps of a changed flow; None for one that came or went."""
    from zeitbuch.core.model.canonical import mapped
    from zeitbuch.core.report.change_maps import change_maps

    return change_maps(mapped(old, flow.ids), new, flow) if old is not None and new is not None else None
