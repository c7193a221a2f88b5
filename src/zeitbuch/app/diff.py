# Comparing two versions: match, judge, count what each change does, and hold it against what was asked for.
"""Changes between two versions, and copies within one."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, structs

from zeitbuch.core.diff.change_cost import Costing, shares_cost_too_much, with_figures
from zeitbuch.core.diff.consequence import in_order_of_consequence
from zeitbuch.core.diff.estate_changes import estate_changes, versions_of
from zeitbuch.core.diff.flow_matching import FlowMatching, match_flows
from zeitbuch.core.diff.mapping import Mapping, without_allowed
from zeitbuch.core.diff.mapping_names import spell_alike
from zeitbuch.core.diff.month_totals import month_totals
from zeitbuch.core.diff.policy import FailOn, Limit, refusals, select_topics
from zeitbuch.core.diff.records import EstateChanges, FlowChanges, UnreadableFlow
from zeitbuch.core.diff.reverting import revert_change
from zeitbuch.core.model.canonical import map_ids
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.sheet import with_notes
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.change_failures import with_failure_words
from zeitbuch.core.report.change_head import head_sentences
from zeitbuch.core.report.change_maps import Maps, change_maps
from zeitbuch.core.report.change_tables import DiffResult, change_line, changes_sheet, summary_sheet
from zeitbuch.core.report.finding_changes import FindingChanges, finding_notes
from zeitbuch.core.report.presentations import ChangesReport, ClonesReport, TableResult
from zeitbuch.readers.config.mapping_file import idle_mapping_entries, load_mapping

from .basis import EstimateBasis
from .flows import find_flow
from .session import Session
from .unreadable import readable_sides


class DiffRequest(Struct, frozen=True):
    """What is asked of a comparison: changes of some topics, one flow (id or name), what the changes do to calls and cost
    (``figures``) and what each does by itself (``shares``), when the answer is no, and the path of a ``mapping``, with the date of
    ``today`` (YYYY-MM-DD) that its entries are held to, and whether the ``checks`` of both versions are held against each other."""

    topics: tuple[str, ...] = ()
    flow: str = ""
    figures: bool = True
    shares: bool = True
    fail_on: FailOn | None = None
    limit: Limit | None = None
    mapping: str = ""
    today: str = ""
    checks: bool = False


class DiffOutcome(Struct, frozen=True):
    """Changes with their figures, how flows were matched, and why the answer is no (a sentence each)."""

    changes: EstateChanges
    matching: FlowMatching
    currency: str
    refused: tuple[str, ...]
    findings: FindingChanges | None = None


def compare_versions(
    session: Session, old: Estate, new: Estate, basis: EstimateBasis, request: DiffRequest
) -> DiffOutcome:
    """What changed in meaning, with what it does to calls and cost. Raises ZeitbuchError when cost is asked about and there is
    no rate card."""
    if basis.card is None and (request.fail_on == "cost" or request.limit is not None):
        raise fail(
            "rates-none", "expected a rate card to tell whether cost grew, found none", "name one with --rates FILE"
        )
    session.problems += basis.problems
    mapping, used = Mapping(), list[int]()
    if request.mapping:
        mapping, _ = load_mapping(request.mapping)
        old, new, used = spell_alike(old, new, mapping)
    before, after = _one_flow(old, new, request.flow) if request.flow else (old, new)
    unreadable: tuple[UnreadableFlow, ...] = ()
    if len(session.sides) == 2:
        before, after, unreadable = readable_sides(before, after, *session.sides)
    matching = match_flows(before.flows, after.flows)
    unread = [side.faulty for side in session.sides] if len(session.sides) == 2 else [(), ()]
    found = structs.replace(
        estate_changes(before, after, matching), unreadable=unreadable, unread_old=unread[0], unread_new=unread[1]
    )
    if found.flows and request.figures:
        found = _with_figures(session, found, matching, (old, new), basis, request)
    found = with_failure_words(found, matching)
    found, allowed = without_allowed(in_order_of_consequence(found), mapping, request.today)
    if request.mapping:
        session.problems += idle_mapping_entries(request.mapping, mapping, used, allowed, request.today)
    shown = select_topics(found, list(request.topics))
    refused = refusals(shown, request.fail_on or "any", request.limit, basis.currency, found)
    findings = None
    if request.checks and found.flows:
        from .diff_findings import findings_between

        findings = findings_between(session, (before, after), found, matching, basis, request.today)
    return DiffOutcome(shown, matching, basis.currency, tuple(refused), findings)


def _with_figures(
    session: Session,
    found: EstateChanges,
    matching: FlowMatching,
    sides: tuple[Estate, Estate],
    basis: EstimateBasis,
    request: DiffRequest,
) -> EstateChanges:
    """The changes with what they do to calls and cost, each and all together."""
    old = Costing.of(sides[0], basis.card, basis.assumptions, basis.month, basis.counters)
    new = Costing.of(sides[1], basis.card, basis.assumptions, basis.month, basis.counters, old)
    with session.progress(len(found.flows), "counting") as advance:
        found = with_figures(found, old, new, matching, request.shares, advance)
    if request.shares:
        session.problems += _shares_left_out(found, matching)
    return structs.replace(found, totals=month_totals(found, old, new, matching, not request.flow))


def _shares_left_out(found: EstateChanges, matching: FlowMatching) -> list[Problem]:
    """That the changes of a large flow stand without their shares."""
    hint = "compare fewer changes at a time, or leave shares out with --no-shares"
    return [
        _size_problem(
            f"{flow.name}: expected the share of each of {count_words(len(flow.changes), 'change')} in {len(new.steps):,} steps, found them to take minutes: left out",
            new,
            hint,
        )
        for flow, (_, new) in zip(found.flows, versions_of(found, matching), strict=True)
        if new is not None and flow.status == "changed" and shares_cost_too_much(flow, new)
    ]


def _size_problem(message: str, flow: Flow, hint: str) -> Problem:
    return Problem("diff-size", "warning", message, flow.origin, hint)


def _one_flow(old: Estate, new: Estate, name: str) -> tuple[Estate, Estate]:
    """Both versions with the one flow, however it was called in the older one."""
    flow = new.flow(name) or old.flow(name) or find_flow(new, name)
    for pair in match_flows(old.flows, new.flows).pairs:
        if flow is pair.new or flow is pair.old:
            return Estate((pair.old,)), Estate((pair.new,))
    return (Estate((flow,)), Estate()) if flow in old.flows else (Estate(), Estate((flow,)))


def undo_change(outcome: DiffOutcome, name: str) -> Flow:
    """The newer version of a flow without one of its changes ('FLOW/N', the Nth that is told of it). Raises ZeitbuchError where there is
    no such change, or none that can be taken back by itself."""
    key, slash, number = name.rpartition("/")
    sides = versions_of(outcome.changes, outcome.matching)
    found = [
        (changes, old, new)
        for changes, (old, new) in zip(outcome.changes.flows, sides, strict=True)
        if changes.status == "changed" and (key if slash else name) in (changes.id, changes.name)
    ]
    if not found:
        names = ", ".join(f"'{changes.name}'" for changes in outcome.changes.flows if changes.status == "changed")
        raise fail(
            "option", f"expected FLOW/N of a changed flow after --undo ({names or 'none changed'}), found '{name}'"
        )
    changes, old, new = found[0]
    assert old is not None and new is not None
    told = "; ".join(f"{place} {change_line(change)}" for place, change in enumerate(changes.changes, 1))
    if not number.isdecimal() or not 1 <= int(number) <= len(changes.changes):
        raise fail("option", f"expected the number of a change of '{changes.name}' after --undo, found '{name}'", told)
    change = changes.changes[int(number) - 1]
    undone = revert_change(map_ids(old, changes.ids), new, change) if change.edits else None
    if undone is None:
        raise fail(
            "option",
            f"expected a change that can be taken back by itself, found one that only follows from others: {change_line(change)}",
            told,
        )
    return undone


def changes_report(outcome: DiffOutcome, maps: bool = True) -> ChangesReport:
    """Changes for the writers; with ``maps`` both versions of a changed flow can be drawn."""
    found = outcome.changes
    body = DiffResult(
        bool(found.flows), outcome.currency, found.flows, found.unchanged, found.renumbered, outcome.refused,
        found.unreadable, found.totals, found.first, found.left_out, found.unread_old, found.unread_new,
        found.allowed, outcome.findings,
    )  # fmt: skip
    sides = dict(zip(map(id, found.flows), versions_of(found, outcome.matching), strict=True)) if maps else {}
    return ChangesReport(body, found, lambda flow: _maps_of_flow(flow, *sides.get(id(flow), (None, None))))


def _maps_of_flow(flow: FlowChanges, old: Flow | None, new: Flow | None) -> Maps | None:
    """The maps of a changed flow; None for one that was added or removed."""
    if old is None or new is None:
        return None
    return change_maps(map_ids(old, flow.ids), new, flow)


def changes_table(outcome: DiffOutcome, summary: bool = True) -> TableResult:
    """One row a flow, or one a change."""
    found = outcome.changes
    body = changes_report(outcome, maps=False).body
    sheet = (
        summary_sheet(
            found, outcome.currency, (*head_sentences(found, outcome.currency), *finding_notes(outcome.findings)[:1])
        )
        if summary
        else changes_sheet(found)
    )
    return TableResult("diff", body, lambda full: sheet)


def compare_versions_three_ways(session: Session, base: str, ours: str, theirs: str | None) -> TableResult:
    """What two versions changed since the one they set out from."""
    from zeitbuch.core.diff.three_way import compare_three
    from zeitbuch.core.report.three_way_table import three_way_sheet

    first, one = session.versions(base, ours)
    second, other = session.versions(base, theirs)
    sides = [readable_sides(first, one, *session.sides[:2]), readable_sides(second, other, *session.sides[2:])]
    lost = {flow.id: flow for _, _, unreadable in sides for flow in unreadable}
    # What one side cannot show is compared with neither.
    estates = [
        Estate(tuple([flow for flow in estate.flows if flow.id not in lost]))
        for estate in (sides[0][0], sides[0][1], sides[1][1])
    ]
    found = compare_three(*estates)
    sheet = three_way_sheet(found)
    if lost:
        names = ", ".join(f"‘{flow.name}’" for flow in lost.values())
        sheet = with_notes(sheet, [f"Could not be read in one of the three, so not compared: {names}."])
    return TableResult("three-way", found, lambda full: sheet)


def find_clones(session: Session, estate: Estate, names: Sequence[str] = ()) -> ClonesReport:
    """Near-identical flows, branches, steps and prompts of an estate, or within some flows (ids or names)."""
    from zeitbuch.core.diff.clones import (  # draws in NumPy, which a comparison does without
        MOST_UNITS,
        ClonesResult,
        detect_clones,
        parts_not_compared,
    )
    from zeitbuch.core.graph.exchanged_words import exchanged_words

    flows = [find_flow(estate, name) for name in names] or list(estate.flows)
    for flow in flows:
        if (left := parts_not_compared(flow)) > 0:
            words = f"{flow.title}: expected at most {MOST_UNITS} branches, or steps of one operation, to hold against each other"
            session.problems.append(
                _size_problem(f"{words}, found {left:,} more: not compared", flow, "copies among these are not found")
            )
    with session.progress(1, "comparing"):
        return ClonesReport(ClonesResult(tuple(detect_clones(flows)), tuple(exchanged_words(flows))))
