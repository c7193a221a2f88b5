# Estimates as sheets: one row a flow or a step, with what is unknown shown as unknown.
"""Sheets of estimates."""

from __future__ import annotations

from typing import Any

from .estimate import EstateEstimate, FlowEstimate, Money, Shares
from .sheet import Column, Sheet, money, percent


def evidence_words(s: Shares) -> str:
    """'62 % default, 30 % declared, 8 % measured'."""
    named = [(s.default, "default"), (s.declared, "declared"), (s.measured, "measured"), (s.read, "read")]
    return ", ".join(f"{percent(share)} {word}" for share, word in named if share > 0.0005) or "none"


def money_words(value: Money | None, currency: str = "") -> str:
    """An amount; what has no price is named by a question mark, never counted as 0."""
    if value is None:
        return "?"
    text = money(value.amount)
    if value.unknown:
        text = f"{text} + ?" if value.amount else "?"
    return f"{text} {currency}".strip()


def _cost(value: Money | None) -> Any:
    if value is None:
        return None
    return money_words(value) if value.unknown else value.amount


def flows_sheet(result: EstateEstimate) -> Sheet:
    """One row a flow, dearest month first."""
    unit = result.currency or "no rate card"
    columns = (
        Column("flow", "flow"),
        Column("runs", "runs/month", "count"),
        Column("calls", "calls/run", "number"),
        Column("input_tokens", "tokens in", "count", rank=2),
        Column("output_tokens", "out", "count", rank=2),
        Column("cost_run", f"{unit}/run", "money"),
        Column("calls_month", "calls/month", "count", rank=1),
        Column("cost_month", f"{unit}/month", "money"),
        Column("evidence", "cost rests on", rank=3),
    )

    def dear(f: FlowEstimate) -> Any:
        return (f.cost_month is None, -(f.cost_month.amount if f.cost_month else 0), f.name)

    rows = tuple(
        (
            f.name,
            f.runs,
            f.calls,
            f.input_tokens,
            f.output_tokens,
            _cost(f.cost),
            f.calls_month,
            _cost(f.cost_month),
            evidence_words(f.evidence),
        )
        for f in sorted(result.flows, key=dear)
    )
    t = result.total
    total = (
        f"{len(rows)} flows",
        t.runs,
        "",
        "",
        "",
        "",
        t.calls_month,
        _cost(t.cost_month),
        evidence_words(t.evidence),
    )
    return Sheet(columns=columns, rows=rows, total=total, title=f"Estimate for {result.month}", notes=notes(result))


def notes(result: EstateEstimate) -> tuple[str, ...]:
    """What a reader of the table must know."""
    found: list[str] = []
    if result.total.unknown_volume:
        found.append(
            "? runs: no volume is known for " + ", ".join(result.total.unknown_volume) + "; the totals leave them out"
        )
    unknown = sorted({m for f in result.flows for m in f.cost.unknown})
    if unknown:
        found.append("? cost: the rate card has no price for " + ", ".join(unknown))
    for f in result.flows:
        found += [f"{f.name}: {n}" for n in f.notes]
    return tuple(found)


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
        Column("evidence", "cost rests on", rank=2),
    )
    rows: list[tuple[Any, ...]] = []
    for f in result.flows:
        for at, s in enumerate(f.steps):
            spent = bool(s.parts)
            rows.append(
                (
                    f.name if at == 0 or full else "", s.number, s.name, s.kind, s.passes, s.model,
                    s.calls if spent else "", s.input_tokens if spent else "", s.output_tokens if spent else "",
                    _cost(s.cost) if spent else "", evidence_words(s.evidence) if spent else "",
                )
            )  # fmt: skip
    total: tuple[Any, ...] | None = None
    if len(result.flows) == 1:
        f = result.flows[0]
        total = (
            "a run",
            "",
            "",
            "",
            "",
            "",
            f.calls,
            f.input_tokens,
            f.output_tokens,
            _cost(f.cost),
            evidence_words(f.evidence),
        )
    title = "Estimate of one run, step by step"
    if len(result.flows) == 1 and not full:
        columns, rows, total = columns[1:], [r[1:] for r in rows], ("", "a run", *total[3:]) if total else None
        title = f"Estimate of one run of {result.flows[0].name}, step by step"
    return Sheet(columns=columns, rows=tuple(rows), total=total, title=title, notes=notes(result))
