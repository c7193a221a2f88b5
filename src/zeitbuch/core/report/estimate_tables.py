# Estimates as sheets: one row a flow or a step, with what is unknown shown as unknown.
"""Sheets of estimates."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import structs

from zeitbuch.core.assumptions.money import Money, Shares, evidence_words, money_words
from zeitbuch.core.assumptions.values import EVIDENCE_WORDS
from zeitbuch.core.estimate.breakdown import GroupRow
from zeitbuch.core.estimate.records import Driver, EstateEstimate, FlowEstimate, Spread
from zeitbuch.core.model.sheet import Column, Sheet, cell_text, money_text, percent_text
from zeitbuch.core.model.words import count_words

from .estimate_notes import estimate_notes


def _cost_cell(value: Money | None) -> Any:
    if value is None:
        return None
    return money_words(value) if value.unknown else value.amount


def _cost_order(f: FlowEstimate) -> Any:
    whole = f.bill_month
    return (whole is None, -(whole.amount if whole else 0), f.name)


_BETWEEN = (("p10_month", "low"), ("p50_month", "likely"), ("p90_month", "high"))


def flows_sheet(result: EstateEstimate, per: str = "") -> Sheet:
    """One row a flow, dearest month first. ``per`` run, month or year shows the distribution of that."""
    if per == "run":
        return _distribution_sheet(result, "run")
    if per in ("month", "year"):
        return _distribution_sheet(result, per)
    unit = result.currency or "no rate card"
    metered = bool(result.hosts)
    sampled = any(flow_estimate.spread is not None for flow_estimate in result.flows)
    columns = [
        Column("flow", "flow", least=22),
        Column("runs", "runs/month", "count", rank=1),
        Column("calls", "calls/run", "number", rank=3),
        Column("input_tokens", "tokens in", "count", rank=9),
        Column("output_tokens", "out", "count", rank=8),
        Column("cost_run", f"{unit}/run", "money", rank=2),
        Column("calls_month", "calls/month", "count", rank=7),
        *(
            [Column("cost_month", "models", "money", rank=6), Column("meters_month", "meters", "money", rank=5)]
            if metered
            else []
        ),
        Column("all_month", f"{unit}/month", "money"),
        *([Column(name, title, "money") for name, title in _BETWEEN] if sampled else []),
        Column("evidence", "month based on", rank=4, least=26),
    ]
    rows: list[tuple[Any, ...]] = []
    for flow_estimate in sorted(result.flows, key=_cost_order):
        _flow_row(flow_estimate, sampled, metered, rows)
    total = _total_row(result, rows, sampled, metered)
    rows += _fee_rows(result, 6 + 2 * metered, 3 * sampled + 1)
    title = (
        f"Estimate for {result.month}" if "-" in result.month else f"Estimate for an average month of {result.month}"
    )
    notes = ((_BETWEEN_WORDS,) if sampled else ()) + estimate_notes(result, fees=False)
    return Sheet(columns=tuple(columns), rows=tuple(rows), total=tuple(total), title=title, notes=notes)


_BETWEEN_WORDS = (
    "low, likely, high: eight months in ten cost between low and high (P10, P50, P90), by all that varies and all that is in doubt;"
    " a declared or measured value without a range is taken as certain"
)


def _flow_row(flow_estimate: FlowEstimate, sampled: bool, metered: bool, rows: list[tuple[Any, ...]]) -> None:
    bill = flow_estimate.bill_month
    meters = "" if flow_estimate.meters_month is None else _cost_cell(flow_estimate.meters_month)
    known = flow_estimate.runs is not None
    rows.append(
        (
            flow_estimate.name,
            flow_estimate.runs,
            flow_estimate.calls,
            flow_estimate.input_tokens,
            flow_estimate.output_tokens,
            _cost_cell(flow_estimate.cost),
            flow_estimate.calls_month,
            *((_cost_cell(flow_estimate.cost_month), meters) if metered else ()),
            _cost_cell(bill),
            *(_between_cells(bill, flow_estimate.month_spread) if sampled else ()),
            evidence_words(flow_estimate.evidence_month if known else flow_estimate.evidence),
        )
    )


def _between_cells(bill: Money | None, spread: Spread | None) -> tuple[Any, ...]:
    """Low, likely and high of a bill; nothing where it is not wholly known."""
    if bill is None or bill.unknown or spread is None:
        return ("", "", "")
    return (spread.p10, spread.p50, spread.p90)


def _fee_rows(result: EstateEstimate, before: int, after: int) -> list[tuple[Any, ...]]:
    """What belongs to no flow: the fees of hosts, one row each."""
    fees = [(bill.host, bill.fee) for bill in result.hosts if not bill.meter and (bill.fee.amount or bill.fee.unknown)]
    shown = fees if result.total.fees_month.amount or result.total.fees_month.unknown else []
    return [(f"fee of {host}", *[""] * before, _cost_cell(fee), *[""] * after) for host, fee in shown]


def _total_row(result: EstateEstimate, rows: list[tuple[Any, ...]], sampled: bool, metered: bool) -> list[Any]:
    t = result.total
    unknown = bool(t.unknown_volume)
    total: list[Any] = [count_words(len(rows), "flow"), _at_least(t.runs, unknown, _count_text), "", "", "", ""]
    total += [_at_least(t.calls_month, unknown, _count_text)]
    parts = [t.cost_month, t.meters_month] if metered else []
    total += [_sum_cell(money, unknown) for money in (*parts, t.bill_month)]
    if sampled:
        known = t.spread or t.spread_of_known
        ends = [known.p10, known.p50, known.p90] if known is not None else [""] * 3
        total += ends if t.spread is not None or known is None else [_at_least(end, True, money_text) for end in ends]
    return [*total, evidence_words(t.evidence)]


def _count_text(count: float) -> str:
    return cell_text(count, "count")


def _at_least(amount: Any, unknown: bool, text: Callable[[Any], str]) -> Any:
    """A sum; with a question mark where it leaves out what nobody knows."""
    return f"{text(amount)} + ?" if unknown else amount


def _sum_cell(value: Money, unknown: bool) -> Any:
    return money_words(structs.replace(value, unknown=("?",))) if unknown else _cost_cell(value)


_DISTRIBUTION_TITLES = {
    "run": "Cost of one run, with the flows it calls",
    "month": "Bill of the month, {month}",
    "year": "Bill of the year {year}",
}


def _distribution_sheet(result: EstateEstimate, per: str) -> Sheet:
    """Mean and percentiles of the cost of a run with the flows it calls, or of a month's or year's bill."""
    unit = result.currency or "no rate card"
    columns = (
        Column("flow", "flow"),
        *((Column("runs", f"runs/{per}", "count"),) if per != "run" else (Column("calls", "calls/run", "number"),)),
        Column("mean", f"{unit}/{per}", "money"),
        Column("p10", "P10", "money"),
        Column("p50", "P50", "money"),
        Column("p90", "P90", "money"),
        Column("p99", "P99", "money"),
        Column("error", "sampling error", "text", rank=1),
        Column("evidence", "based on", rank=2),
    )
    order = _cost_order if per != "run" else lambda f: (-f.with_called.amount, f.name)
    rows = tuple(_distribution_row(flow, per) for flow in sorted(result.flows, key=order))
    total = None
    if per != "run":
        spread = result.total.year_spread if per == "year" else result.total.spread
        runs = result.total.runs * _months_in(per)
        name = count_words(len(rows), "flow")
        t = result.total
        whole = t.bill_month
        if t.unknown_volume:
            runs, whole = _at_least(runs, True, _count_text), structs.replace(whole, unknown=(*whole.unknown, "?"))
        total = _spread_cells(name, runs, whole, spread, t.evidence, per)
    title = _DISTRIBUTION_TITLES[per].format(month=result.month, year=result.month[:4])
    return Sheet(columns=columns, rows=rows, total=total, title=title, notes=estimate_notes(result))


def _months_in(per: str) -> int:
    return 12 if per == "year" else 1


def _distribution_row(flow: FlowEstimate, per: str) -> tuple[Any, ...]:
    if per == "run":
        return _spread_cells(flow.name, flow.calls, flow.with_called, flow.spread, flow.evidence, per)
    runs = None if flow.runs is None else flow.runs * _months_in(per)
    spread = flow.year_spread if per == "year" else flow.month_spread
    return _spread_cells(flow.name, runs, flow.bill_month, spread, flow.evidence_month, per)


def _spread_cells(
    name: str, count: Any, money: Money | None, spread: Spread | None, evidence: Shares, per: str
) -> tuple[Any, ...]:
    """The cells of one row; percentiles only where the whole cost is known."""
    known = spread if money is not None and not money.unknown else None
    shown = [known.p10, known.p50, known.p90, known.p99] if known is not None else [""] * 4
    error = ""
    if known is not None and known.mean:
        error = f"±{percent_text(known.error / known.mean)}" + (f" ({known.runs:,} runs)" if per == "run" else "")
    whole = money.times(12) if money is not None and per == "year" else money
    return (name, count, _cost_cell(whole), *shown, error, evidence_words(evidence))


def groups_sheet(result: EstateEstimate, rows: tuple[GroupRow, ...], by: str, per: str = "") -> Sheet:
    """One row a group, dearest first."""
    unit = result.currency or "no rate card"
    span = "year" if per == "year" else "month"
    times = 12 if span == "year" else 1
    title = f"Estimate by {by}, {result.month[:4] if span == 'year' else result.month}"
    if by == "meter":
        return _meters_sheet(result, rows, span, unit, times, title)
    columns = (
        Column("name", by), Column("calls", f"calls/{span}", "count"), Column("input_tokens", "tokens in", "count", rank=2),
        Column("output_tokens", "out", "count", rank=2), Column("cost", f"{unit}/{span}", "money"),
        *((Column("flows", "flows", "count", rank=1),) if by != "step" else ()), Column("evidence", "based on", rank=3),
    )  # fmt: skip
    lines = []
    for group_row in rows:
        row: list[Any] = [
            group_row.name,
            group_row.calls * times,
            group_row.input_tokens * times,
            group_row.output_tokens * times,
            _cost_cell(group_row.cost.times(times)),
        ]
        lines.append((*row, *((len(group_row.flows),) if by != "step" else ()), evidence_words(group_row.evidence)))
    t = result.total
    whole = t.bill_month.times(times)
    total: list[Any] = ["in total", t.calls_month * times, "", "", _sum_cell(whole, bool(t.unknown_volume))]
    total += [""] if by != "step" else []
    notes = estimate_notes(result, fees=False)
    return Sheet(columns, tuple(lines), (*total, evidence_words(t.evidence)), title, notes)


def _meters_sheet(
    result: EstateEstimate, rows: tuple[GroupRow, ...], span: str, unit: str, times: int, title: str
) -> Sheet:
    columns: tuple[Column, ...] = (
        Column("name", "bill"), Column("units", f"units/{span}", "count"), Column("cost", f"{unit}/{span}", "money"), Column("flows", "flows", "count"),
    )  # fmt: skip
    lines = [
        (
            group_row.name,
            "" if group_row.units is None else group_row.units * times,
            _cost_cell(group_row.cost.times(times)),
            len(group_row.flows),
        )
        for group_row in rows
    ]
    t = result.total
    whole = t.bill_month.times(times)
    return Sheet(
        columns,
        tuple(lines),
        ("in total", "", _sum_cell(whole, bool(t.unknown_volume)), ""),
        title,
        estimate_notes(result, fees=False),
    )


def drivers_sheet(rows: list[Driver], currency: str, per: str, most: int = 20) -> Sheet:
    """One row an assumption, the one that moves the figure most first."""
    unit = currency or "no rate card"
    columns = (
        Column("flow", "flow", rank=1), Column("what", "assumption"), Column("value", "value", "number"), Column("low", "low", "number"),
        Column("high", "high", "number"), Column("at_low", f"{unit}/{per} at low", "money"), Column("cost", "as assumed", "money"),
        Column("at_high", "at high", "money"), Column("swing", "moves it by", "money"), Column("evidence", "based on"),
    )  # fmt: skip
    lines = tuple(
        (
            driver.flow,
            driver.what,
            driver.value,
            driver.low,
            driver.high,
            driver.at_low,
            driver.cost,
            driver.at_high,
            driver.swing,
            EVIDENCE_WORDS[driver.evidence],
        )
        for driver in rows[:most]
    )
    more = (f"{len(rows) - most} more move it less; --format csv or json has all",) if len(rows) > most else ()
    doubt = (
        "low, high: between what the assumption's mean may lie; a default may be half or double; a declared value without a range"
        " is moved by 25 %, a measured one by 10 %"
    )
    notes = (doubt, *more)
    return Sheet(columns, lines, title=f"What moves the cost of a {per} most", notes=notes)


def steps_sheet(result: EstateEstimate, full: bool = False) -> Sheet:
    """One row a step of every flow, in order; ``full`` names the flow on every row (for machines)."""
    unit = result.currency or "no rate card"
    columns: tuple[Column, ...] = (
        Column("flow", "flow"),
        Column("number", "no."),
        Column("step", "step"),
        Column("kind", "kind", rank=3),
        Column("passes", "passes/run", "number"),
        Column("model", "model", rank=1),
        Column("calls", "calls/run", "number"),
        Column("input_tokens", "tokens in", "count"),
        Column("output_tokens", "out", "count"),
        Column("cost_run", f"{unit}/run", "money"),
        Column("evidence", "cost based on", rank=2),
    )
    rows: list[tuple[Any, ...]] = []
    for flow_estimate in result.flows:
        _rows_of_steps(full, flow_estimate, rows)
    total: tuple[Any, ...] | None = None
    if len(result.flows) == 1:
        total = _total_of_flow(result)
    title = "Estimate of one run, step by step"
    if len(result.flows) == 1 and not full:
        columns, rows, total = columns[1:], [row[1:] for row in rows], ("", "per run", *total[3:]) if total else None
        title = f"Estimate of one run of {result.flows[0].name}, step by step"
    return Sheet(columns=columns, rows=tuple(rows), total=total, title=title, notes=estimate_notes(result))


def _rows_of_steps(full: bool, flow_estimate: FlowEstimate, rows: list[tuple[Any, ...]]) -> None:
    for place, step_estimate in enumerate(flow_estimate.steps):
        spent = bool(step_estimate.parts)
        rows.append(
            (
                flow_estimate.name if place == 0 or full else "", step_estimate.number, step_estimate.name, step_estimate.kind, step_estimate.passes, step_estimate.model,
                step_estimate.calls if spent else "", step_estimate.input_tokens if spent else "", step_estimate.output_tokens if spent else "",
                _cost_cell(step_estimate.cost) if spent else "", evidence_words(step_estimate.evidence) if spent else "",
            )
        )  # fmt: skip


def _total_of_flow(result: EstateEstimate) -> tuple[Any, ...] | None:
    flow_estimate = result.flows[0]
    return (
        "per run",
        "",
        "",
        "",
        "",
        "",
        flow_estimate.calls,
        flow_estimate.input_tokens,
        flow_estimate.output_tokens,
        _cost_cell(flow_estimate.cost),
        evidence_words(flow_estimate.evidence),
    )


def months_sheet(results: list[EstateEstimate]) -> Sheet:
    """One row a month."""
    unit = results[0].currency or "no rate card"
    columns = (
        Column("month", "month"), Column("runs", "runs", "count"), Column("calls", "calls", "count"), Column("models", "models", "money"),
        Column("meters", "meters", "money"), Column("fees", "fees", "money"), Column("all", f"{unit}/month", "money"),
    )  # fmt: skip
    rows: list[tuple[Any, ...]] = []
    for estate_estimate in results:
        total = estate_estimate.total
        whole = total.bill_month
        parts = [
            money_words(money) if money.unknown else money.amount
            for money in (total.cost_month, total.meters_month, total.fees_month, whole)
        ]
        rows.append((estate_estimate.month, total.runs, total.calls_month, *parts))
    missing = sorted({name for estate_estimate in results for name in estate_estimate.total.unknown_volume})
    said = (f"? runs: no volume is known for {', '.join(missing)}; they are left out",) if missing else ()
    return Sheet(columns, tuple(rows), title="Month by month", notes=said)
