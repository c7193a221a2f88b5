# What was measured, and how well it predicts, as tables.
"""Tables of a calibration."""

from __future__ import annotations

from collections.abc import Iterator
from statistics import median

from zeitbuch.core.assumptions.values import EVIDENCE_WORDS
from zeitbuch.core.calibrate.records import Calibrated, CalibrationCheck, FlowCheck, Measured, SeasonMeasured
from zeitbuch.core.calibrate.season_fit import factors_words
from zeitbuch.core.model.sheet import Column, Sheet, number_text
from zeitbuch.core.model.words import count_words


def measured_sheet(found: Calibrated, full: bool = False) -> Sheet:
    """Each quantity with its range, what it rests on, and what held before."""
    columns = (
        Column("flow", "flow", least=14),
        Column("subject", "quantity", least=20),
        Column("value", "measured"),
        Column("range", "its mean within", rank=1),
        Column("cases", "on", rank=1),
        Column("before", "assumed before", rank=2),
        Column("when", "since", rank=3),
        Column("written", "written", rank=2),
        Column("why", "to know", least=16),
    )
    rows = (*[_measured_row(one, full) for one in found.measured], *map(_season_row, found.seasons))
    return Sheet(columns, rows, title=_title(found), notes=tuple(remark_lines(found)))


def remark_lines(found: Calibrated) -> Iterator[str]:
    """Each remark with the flows that it is of."""
    flows: dict[str, list[str]] = {}
    for one in found.remarks:
        flows.setdefault(one.words, []).append(one.flow_name)
    for words, names in flows.items():
        more = f" and {count_words(len(names) - _NAMED, 'more flow')}" if len(names) > _NAMED else ""
        yield f"{', '.join(names[:_NAMED])}{more}: {words}"
    kept = sum(not one.written and one.before_evidence == "declared" for one in found.measured)
    if kept:
        yield f"{count_words(kept, 'declared number')} kept: --over declared puts what was measured in their place"


def _measured_row(one: Measured, full: bool) -> tuple[object, ...]:
    ends = f"{number_text(one.low)} to {number_text(one.high)}" if one.low < one.high else ""
    before = (
        ""
        if one.before is None or one.before_evidence is None
        else f"{number_text(one.before)} ({EVIDENCE_WORDS[one.before_evidence]})"
    )
    days = (
        f" on {', '.join(one.weekdays)}"
        if one.weekdays and (full or len(one.weekdays) < _MANY)
        else " on workdays"
        if one.weekdays
        else ""
    )
    return (
        one.flow_name, one.subject + days, number_text(one.value), ends, cases_words(one), before, one.since,
        "yes" if one.written else "no", one.why,
    )  # fmt: skip


def _season_row(one: SeasonMeasured) -> tuple[object, ...]:
    before = f"{factors_words(one.before)} (declared)" if one.before else ""
    return (
        one.flow_name, "season of its runs", factors_words(one.factors), "", f"{one.runs:,.0f} runs", before, "",
        "yes" if one.written else "no", one.why,
    )  # fmt: skip


def cases_words(one: Measured) -> str:
    """'4,983 runs'."""
    return f"{one.cases:,.0f} {one.cases_of if round(one.cases) != 1 else one.cases_of[:-1]}"


_MANY, _NAMED = 5, 3


def _title(found: Calibrated) -> str:
    return f"Measured, {found.first_day} to {found.last_day} ({count_words(found.days, 'day')} with lines)"


def check_sheet(found: CalibrationCheck) -> Sheet:
    """Predicted and real, flow by flow, and how many lie within their ranges."""
    columns = (
        Column("name", "flow", least=14),
        Column("predicted_calls", "predicted calls", "count", rank=2),
        Column("logged_calls", "calls in the log", "count", rank=2),
        Column("predicted_cost", f"predicted {found.currency}".strip(), "money"),
        Column("logged_cost", f"log {found.currency}".strip(), "money"),
        Column("ratio", "log / predicted", "percent"),
        Column("low", "P10", "money", rank=1),
        Column("high", "P90", "money", rank=1),
        Column("within", "within", rank=1),
        Column("changed", "changed on", rank=3),
    )
    rows = tuple([_check_row(one) for one in found.flows])
    title = f"Fitted on {found.first_day} to {found.fit_until}, predicted to {found.last_day} ({count_words(found.days, 'day')} with lines)"
    return Sheet(columns, rows, _total_row(found.flows), title=title, notes=check_notes(found))


def _check_row(one: FlowCheck) -> tuple[object, ...]:
    ratio = one.logged_cost / one.predicted_cost if one.predicted_cost else None
    within = "" if one.low is None or one.high is None else "yes" if one.low <= one.logged_cost <= one.high else "no"
    return (
        one.name,
        one.predicted_calls,
        one.logged_calls,
        one.predicted_cost,
        one.logged_cost,
        ratio,
        one.low,
        one.high,
        within,
        one.changed,
    )


def _total_row(flows: tuple[FlowCheck, ...]) -> tuple[object, ...]:
    known = [one for one in flows if one.predicted_cost is not None]
    predicted, logged = sum(one.predicted_cost or 0.0 for one in known), sum(one.logged_cost for one in known)
    return "total", None, None, predicted, logged, logged / predicted if predicted else None, None, None, "", ""


def check_notes(found: CalibrationCheck) -> tuple[str, ...]:
    """How far the prediction is from the log in the median flow and in total, and how many flows lie within their ranges."""
    known = [one for one in found.flows if one.predicted_cost and not one.changed]
    if not known:
        return ("no flow could be predicted",)
    off = median(abs(one.logged_cost / one.predicted_cost - 1) for one in known if one.predicted_cost)
    inside = [
        one for one in known if one.low is not None and one.high is not None and one.low <= one.logged_cost <= one.high
    ]
    notes = [
        f"the median flow is {off:.0%} from its prediction; {len(inside)} of {count_words(len(known), 'flow')} lie within P10 to P90"
    ]
    changed = [one.name for one in found.flows if one.changed]
    if changed:
        notes.append(f"left out of these, as they changed behind the fit: {', '.join(changed)}")
    unknown = [one.name for one in found.flows if one.predicted_cost is None]
    if unknown:
        notes.append(f"not predicted, as a volume or price is not known: {', '.join(unknown)}")
    return tuple(notes)
