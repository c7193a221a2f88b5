# Checking an estate: what is wrong, what was accepted with a reason, and whether a gate lets it pass.
"""Findings of an estate."""

from __future__ import annotations

import difflib
import fnmatch
from collections.abc import Sequence

from msgspec import Struct, structs

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import SEVERITIES, Check, CheckFinding, Severity
from zeitbuch.core.checks.registry import BROKEN, CHECKS, check_part, order_findings
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Origin
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.check_table import ChecksResult
from zeitbuch.readers.config.workspace import Accept
from zeitbuch.readers.input.positions import place_problems

from .basis import EstimateBasis
from .check_facts import gather_facts
from .parallel_work import PIECE, share_work
from .session import Session


class CheckRequest(Struct, frozen=True):
    """What is asked: only these codes, only flows by these patterns, from which severity on the answer is no, and today's date
    (YYYY-MM-DD), to which exceptions are held."""

    only: tuple[str, ...] = ()
    flows: tuple[str, ...] = ()
    fail_on: Severity | None = None
    today: str = ""


def check_estate(session: Session, estate: Estate, basis: EstimateBasis, request: CheckRequest) -> ChecksResult:
    """The findings of an estate; what the workspace accepts is kept and marked. Checks look at all flows together, also where only some
    are shown."""
    rows = [find_check(code) for code in request.only] or list(CHECKS.values())
    copies = any(row.code in ("copy-edit-missed", "flows-alike") for row in rows)
    facts = gather_facts(session, estate, basis, request.today, copies)
    found = _look(session, EstateView(estate.flows, basis.card, facts), rows)
    accepts = session.workspace.accept
    found, used = _with_accepted(found, accepts, request.today)
    session.problems += _idle_accepts(session, accepts, used, request)
    if request.flows:
        found = [one for one in found if _fits(request.flows, one.flow_id, one.flow)]
    flows = [flow for flow in estate.flows if not request.flows or _fits(request.flows, flow.id, flow.title)]
    return ChecksResult(tuple(_with_lines(session, found)), len(flows), _refusal(found, request.fail_on))


def _look(session: Session, estate: EstateView, rows: Sequence[Check]) -> list[CheckFinding]:
    """The findings of all flows, shared out to all cores."""
    estate.prepare()

    def look(places: range) -> list[CheckFinding]:
        return check_part(estate, rows, estate.flows[places.start : places.stop])

    found: list[CheckFinding] = []
    done = 0
    with session.progress(len(estate.flows), "checking") as advance:
        for part in share_work(look, len(estate.flows)):
            found += part
            done = min(done + PIECE, len(estate.flows))
            advance(done - 1)
    return order_findings(found)


def _with_lines(session: Session, found: Sequence[CheckFinding]) -> list[CheckFinding]:
    """The findings with line and column where their places can be found in the files."""
    places = [Problem("fault", "info", "", one.origin) for one in found]
    placed = place_problems(places, session.limits, session.kept)
    return [structs.replace(one, origin=place.origin) for one, place in zip(found, placed, strict=True)]


def find_check(code: str) -> Check:
    """The check of a code. Raises ZeitbuchError for none."""
    row = CHECKS.get(code)
    if row is None:
        near = difflib.get_close_matches(code, list(CHECKS), 3)
        hint = f"did you mean {' or '.join(near)}?" if near else "`zeitbuch check --codes` lists them"
        raise fail("check-unknown", f"expected the code of a check, found '{code}'", hint)
    return row


def check_words(row: Check) -> list[tuple[str, str]]:
    """The page of a check: heads and texts."""
    return [
        ("what", f"{row.title} ({row.severity})"),
        ("why", row.why),
        ("how it is found", row.how),
        ("what it misses", row.misses),
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
        one.code != BROKEN
        and fnmatch.fnmatchcase(one.code, accept.code)
        and _fits((accept.flow,), one.flow_id, one.flow)
        and _fits((accept.step,), one.step_id, one.step)
    )


def _is_over(accept: Accept, today: str) -> bool:
    return accept.until is not None and accept.until.isoformat() <= today


def _idle_accepts(session: Session, accepts: Sequence[Accept], used: list[int], request: CheckRequest) -> list[Problem]:
    """Exceptions that are out of date, and those that fit nothing (where all checks ran)."""
    origin = Origin(session.workspace.path_from_here("zeitbuch.toml"), "/accept")
    found = []
    for accept, count in zip(accepts, used, strict=True):
        if _is_over(accept, request.today):
            words = f"expected an exception that holds, found that {accept.code} was accepted until {accept.until} by {accept.by}"
            found.append(Problem("accept-idle", "warning", words, origin, "renew it, or mend what it accepts"))
        elif not count and not request.only:
            words = f"expected a finding {accept.code} of flow '{accept.flow}' that is accepted ({accept.reason}), found none"
            found.append(Problem("accept-idle", "warning", words, origin, "take the exception out"))
    return found


def _refusal(found: Sequence[CheckFinding], fail_on: Severity | None) -> str:
    if fail_on is None:
        return ""
    bad = [one for one in found if one.counts and SEVERITIES.index(one.severity) <= SEVERITIES.index(fail_on)]
    return f"{count_words(len(bad), 'finding')} of severity {fail_on} or higher" if bad else ""
