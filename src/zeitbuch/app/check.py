# Checking an estate: what is wrong, what was accepted with a reason, and whether a gate lets it pass.
"""Findings of an estate."""

from __future__ import annotations

import fnmatch
import itertools
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path

import tomlkit
from msgspec import Struct, structs

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.examples import EXAMPLES
from zeitbuch.core.checks.records import SEVERITIES, Check, CheckAbout, CheckFinding, Severity, UsageFact
from zeitbuch.core.checks.registry import EXPIRED, IDLE, OF_USAGE, OWN_CODES, check_part, order_findings
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Estate, Origin
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.check_table import ChecksResult
from zeitbuch.readers.config.workspace import NAME as WORKSPACE
from zeitbuch.readers.config.workspace import Accept
from zeitbuch.readers.input.positions import place_problems
from zeitbuch.readers.input.toml_lines import line_of

from .basis import EstimateBasis
from .check_facts import OF_COPIES, copies_left_out, gather_facts
from .check_rows import all_checks, find_check, rules_to_try
from .parallel_work import PIECE, share_work
from .session import Session

MOST_STEPS = 20_000  # of an estate whose findings are ordered by money


class CheckRequest(Struct, frozen=True):
    """What is asked: only these codes, only flows by these patterns, from which severity on the answer is no, today's date
    (YYYY-MM-DD), to which exceptions are held, a file of rules to try instead of all checks, the state since which findings are new, and what usage logs say
    (None: no log was looked at)."""

    only: tuple[str, ...] = ()
    flows: tuple[str, ...] = ()
    fail_on: Severity | None = None
    today: str = ""
    rules: str = ""
    since: str = ""
    usage: tuple[UsageFact, ...] | None = None


def check_estate(session: Session, estate: Estate, basis: EstimateBasis, request: CheckRequest) -> ChecksResult:
    """The findings of an estate; what the workspace accepts is kept and marked. Checks look at all flows together, also where only some
    are shown."""
    rows = _rows_asked(session, request)
    found = _findings_of(session, estate, basis, request.today, rows, request.usage or ())
    accepts = session.workspace.accept
    found, used = _with_accepted(found, accepts, request.today)
    if not request.rules:
        found += _idle_accepts(session, accepts, used, request, basis.whole)
    if request.since:
        found = _new_since(session, basis, request, rows, found)
    if request.flows:
        found = [one for one in found if _fits(request.flows, one.flow_id, one.flow)]
    flows = len(estate.flows)
    if request.flows:
        flows = sum(_fits(request.flows, flow.id, flow.title) for flow in estate.flows)
    left_out = copies_left_out([row.code for row in rows], estate.flows)
    if found and basis.card is not None:
        if _has_many_steps(estate):
            left_out.append(f"of one severity in no order: more than {MOST_STEPS:,} steps are not estimated for it")
        else:
            found = _with_money(found, estate, basis)
    found = order_findings(found)
    about = _about_checks(rows, {one.code for one in found})
    refused = _refusal(found, request.fail_on)
    shown = tuple(_with_lines(session, found))
    wrong = [problem for problem in session.problems if problem.severity == "error"]
    lost = tuple(place_problems(wrong, session.limits, session.kept)) if wrong else ()
    return ChecksResult(shown, flows, refused, basis.currency, request.since, about, tuple(left_out), lost)


def _about_checks(rows: Sequence[Check], used: set[str]) -> tuple[CheckAbout, ...]:
    """What is said of the checks that found something."""
    own = [about for code, about in OWN_CODES.items() if code in used]
    return (
        *[
            CheckAbout(row.code, row.severity, row.title, row.why, row.how, row.misses, row.remedy)
            for row in rows
            if row.code in used
        ],
        *own,
    )


def findings_of_estate(session: Session, estate: Estate, basis: EstimateBasis, today: str) -> list[CheckFinding]:
    """All findings of an estate, the worst first, those that the workspace accepts marked."""
    found = _findings_of(session, estate, basis, today, list(all_checks(session).values()))
    return order_findings(_with_accepted(found, session.workspace.accept, today)[0])


def accepted_findings(session: Session, found: list[CheckFinding], today: str) -> list[CheckFinding]:
    """The findings, those that the workspace accepts marked."""
    return _with_accepted(found, session.workspace.accept, today)[0]


def _rows_asked(session: Session, request: CheckRequest) -> list[Check]:
    known = all_checks(session)
    if request.rules:
        return rules_to_try(request.rules, set(known) - {rule.code for rule in session.workspace.rule})
    return [find_check(code, known) for code in request.only] or list(known.values())


def _findings_of(
    session: Session,
    estate: Estate,
    basis: EstimateBasis,
    today: str,
    rows: Sequence[Check],
    usage: tuple[UsageFact, ...] = (),
) -> list[CheckFinding]:
    copies = any(row.code in OF_COPIES for row in rows)
    facts = structs.replace(gather_facts(session, estate, basis, today, copies), usage=usage)
    return _look(session, EstateView(estate.flows, basis.card, facts), rows)


def _new_since(
    session: Session, basis: EstimateBasis, request: CheckRequest, rows: Sequence[Check], found: Sequence[CheckFinding]
) -> list[CheckFinding]:
    """The findings that an earlier state had not: of each code, flow and step as many as there are more of."""
    before = _findings_of(session, session.estate([request.since], resting=True), basis, request.today, rows)
    had = Counter((one.code, one.flow_id, one.step_id) for one in before)
    new = []
    for one in found:
        key = (one.code, one.flow_id, one.step_id)
        if had[key]:
            had[key] -= 1
        else:
            new.append(one)
    return new


def _with_money(found: Sequence[CheckFinding], estate: Estate, basis: EstimateBasis) -> list[CheckFinding]:
    """The findings with what their flow costs in a month, where that can be worked out."""
    try:
        result = estimate_exactly(estate, basis.card, basis.assumptions, basis.month, basis.counters)
    except ZeitbuchError:
        return list(found)  # `estimate` says why
    costs = {flow.id: flow.bill_month for flow in result.flows}
    return [
        structs.replace(one, month=float(cost.amount), unpriced=cost.unknown)
        if (cost := costs.get(one.flow_id)) is not None
        else one
        for one in found
    ]


def accept_all(found: Iterable[CheckFinding], today: str) -> str:
    """Exceptions (TOML) for all findings that are open: a starting point, each still to be given a reason."""
    document = tomlkit.document()
    document.add(tomlkit.comment(f"Findings of {today}. Give each a reason and a name, or mend it and take it out."))
    rows = tomlkit.aot()
    for one in found:
        if one.accepted or one.code in OWN_CODES:
            continue
        row = tomlkit.table()
        values = {
            "code": one.code,
            "flow": literal_pattern(one.flow_id),
            "step": literal_pattern(one.step_id) or "*",
            "reason": one.message,
            "by": "",
        }
        for key, value in values.items():
            row.add(key, value)
        rows.append(row)
    document.add("accept", rows)
    return tomlkit.dumps(document)


def _has_many_steps(estate: Estate) -> bool:
    count = 0
    for flow in estate.flows:
        count += len(flow.steps)
        if count > MOST_STEPS:
            return True
    return False


def _look(session: Session, estate: EstateView, rows: Sequence[Check]) -> list[CheckFinding]:
    """The findings of all flows, shared out to all cores."""
    estate.prepare()
    whole = [row for row in rows if row.of_estate]
    single = [row for row in rows if not row.of_estate]

    def look(places: range) -> list[CheckFinding]:
        """The first place is that of the checks of the estate: they take longest, and begin first."""
        found = check_part(estate, whole, estate.flows) if places.start == 0 else []
        return found + check_part(estate, single, estate.flows[max(0, places.start - 1) : places.stop - 1])

    found: list[CheckFinding] = []
    done = 0
    with session.progress(len(estate.flows), "checking") as advance:
        for part in share_work(look, len(estate.flows) + 1):
            found += part
            done = min(done + PIECE, len(estate.flows))
            advance(done - 1)
    return found


def _with_lines(session: Session, found: Sequence[CheckFinding]) -> list[CheckFinding]:
    """The findings with line and column where their places can be found in the files; those of a file are looked for together, of many files by
    several processes."""
    order = sorted(range(len(found)), key=lambda number: _file_of(found[number]))

    def look(places: range) -> list[Origin | None]:
        asked = [Problem("fault", "info", "", found[order[place]].origin) for place in places]
        return [one.origin for one in place_problems(asked, session.limits, session.kept)]

    made = list(found)
    placed = itertools.chain.from_iterable(share_work(look, len(order), at_home=True))
    for number, origin in zip(order, placed, strict=True):
        made[number] = structs.replace(made[number], origin=origin)
    return made


def _file_of(one: CheckFinding) -> str:
    return one.origin.file if one.origin is not None else ""


def check_words(row: Check) -> list[tuple[str, str]]:
    """The page of a check: heads and texts."""
    return [
        ("what", f"{row.title} ({row.severity})"),
        ("why", row.why),
        ("how it is found", row.how),
        ("what it misses", row.misses),
        *([("example", EXAMPLES[row.code])] if row.code in EXAMPLES else []),
        ("what to do", row.remedy),
    ]


def _fits(patterns: Sequence[str], *names: str) -> bool:
    return any(fnmatch.fnmatchcase(name.casefold(), pattern.casefold()) for name in names for pattern in patterns)


def _with_accepted(
    found: list[CheckFinding], accepts: Sequence[Accept], today: str
) -> tuple[list[CheckFinding], list[int]]:
    """The findings, those that the workspace accepts marked, and how many each exception fitted."""
    counts = [0] * len(accepts)
    made = []
    for one in found:
        place = next((n for n, accept in enumerate(accepts) if _accepts(accept, one)), None)
        if place is None:
            made.append(one)
            continue
        counts[place] += 1
        accept = accepts[place]
        over = _is_over(accept, today)
        made.append(one if over else structs.replace(one, accepted=f"{accept.reason}, {accept.by}"))
    return made, counts


def _accepts(accept: Accept, one: CheckFinding) -> bool:
    return (
        one.code not in OWN_CODES
        and fnmatch.fnmatchcase(one.code, accept.code)
        and _fits((accept.flow,), one.flow_id, one.flow)
        and _fits((accept.step,), one.step_id, one.step)
    )


def _is_over(accept: Accept, today: str) -> bool:
    return accept.until is not None and accept.until.isoformat() <= today


def _idle_accepts(
    session: Session, accepts: Sequence[Accept], used: list[int], request: CheckRequest, whole: bool
) -> list[CheckFinding]:
    """Exceptions that are out of date, and those that fit nothing (where all checks ran over ``whole`` sources)."""
    path = session.workspace.path_from_here(WORKSPACE)
    found = []
    for place, (accept, count) in enumerate(zip(accepts, used, strict=True)):
        if _is_over(accept, request.today):
            code, words = EXPIRED, f"{accept.code} was accepted until {accept.until} by {accept.by} ({accept.reason})"
        elif not count and not request.only and whole and (request.usage is not None or accept.code not in OF_USAGE):
            code, words = (
                IDLE,
                f"no finding {accept.code} of flow '{accept.flow}' is there to be accepted ({accept.reason}, {accept.by})",
            )
        else:
            continue
        line = line_of(Path(path).read_text(encoding="utf-8"), f"/accept/{place}")
        remedy = OWN_CODES[code].remedy
        found.append(
            CheckFinding(code, "low", True, "the workspace", "", "on", words, remedy, origin=Origin(path, line=line))
        )
    return found


def _refusal(found: Sequence[CheckFinding], fail_on: Severity | None) -> str:
    if fail_on is None:
        return ""
    bad = [one for one in found if one.counts and SEVERITIES.index(one.severity) <= SEVERITIES.index(fail_on)]
    return f"{count_words(len(bad), 'finding')} of severity {fail_on} or higher" if bad else ""
