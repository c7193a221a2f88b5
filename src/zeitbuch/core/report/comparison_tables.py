# Comparisons and proposals as sheets.
"""Sheets of scenarios."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.estimate.comparison import Comparison, Crossing, FlowLine
from zeitbuch.core.estimate.proposals import Proposal
from zeitbuch.core.model.sheet import Column, Sheet, money_text, number_text


def signed_money(amount: Decimal) -> str:
    """'+3.10', '-0.42', '0.00'."""
    text = money_text(amount)
    return f"+{text}" if amount > 0 else text


def _differ_much(a: Money | None, b: Money | None) -> bool:
    """Whether two amounts differ by more than the rounding of shares."""
    if a is None or b is None:
        return a is not b
    return a.unknown != b.unknown or abs(a.amount - b.amount) > max(abs(a.amount), abs(b.amount)) * Decimal("1e-9")


def _money_cell(value: Money | None) -> Any:
    return None if value is None else money_words(value) if value.unknown else value.amount


def comparison_sheet(found: Comparison, every: bool = False) -> Sheet:
    """One row a flow that a scenario touches (``every``: all flows), a pair of columns a scenario."""
    unit = found.currency or "no rate card"
    columns = [Column("flow", "flow"), Column("base", f"base, {unit}/month", "money")]
    for place, option in enumerate(found.options[1:], 1):
        columns += [
            Column(f"scenario_{place}", option.name, "money"),
            Column(f"difference_{place}", "change", "money", rank=place),
        ]
    rows: list[tuple[Any, ...]] = []
    rest = [Decimal(0)] * len(found.options)
    for line in sorted(
        found.flows, key=lambda f: (f.month[0] is None, -(f.month[0].amount if f.month[0] else 0), f.name)
    ):
        if not every and not line.touched and not any(_differ_much(cost, line.month[0]) for cost in line.month):
            rest = [amount + (cost.amount if cost else 0) for amount, cost in zip(rest, line.month, strict=True)]
            continue
        _flow_row(line, rows)
    left = len(found.flows) - len(rows)
    if left:
        _row_of_others(left, rest, rows)
    if any(option.fees.amount for option in found.options):
        _row_of_fees(found, rows)
    total: list[Any] = ["in total", _money_cell(found.options[0].total)]
    for o in found.options[1:]:
        total += [_money_cell(o.total), signed_money(o.difference)]
    return Sheet(tuple(columns), tuple(rows), tuple(total), f"Scenarios for {found.month}", _comparison_notes(found))


def _flow_row(line: FlowLine, rows: list[tuple[Any, ...]]) -> None:
    row: list[Any] = [line.name, _money_cell(line.month[0])]
    for cost in line.month[1:]:
        first = line.month[0]
        row += [
            _money_cell(cost),
            ""
            if cost is None or first is None or not _differ_much(cost, first)
            else signed_money(cost.amount - first.amount),
        ]
    rows.append(tuple(row))


def _row_of_others(left: int, rest: list[Decimal], rows: list[tuple[Any, ...]]) -> None:
    row = [f"{left} others", rest[0]]
    for amount in rest[1:]:
        row += [amount, ""]
    rows.append(tuple(row))


def _row_of_fees(found: Comparison, rows: list[tuple[Any, ...]]) -> None:
    row = ["fees of hosts", _money_cell(found.options[0].fees)]
    for o in found.options[1:]:
        moved = o.fees.amount - found.options[0].fees.amount
        row += [_money_cell(o.fees), signed_money(moved) if moved else ""]
    rows.append(tuple(row))


def _comparison_notes(found: Comparison) -> tuple[str, ...]:
    said = []
    for option in found.options[1:]:
        if option.note:
            said.append(f"{option.name}: {option.note}")
    for crossing in found.crossings:
        _crossing_words(crossing, said)
    _without_crossing(found, said)
    if found.unknown_volume:
        said.append("? runs: no volume is known for " + ", ".join(found.unknown_volume) + "; they are left out")
    unknown = sorted({name for option in found.options for name in option.total.unknown})
    if unknown:
        said.append("? cost: no price is known for " + ", ".join(unknown) + "; differences leave it out")
    return tuple(said)


def _crossing_words(crossing: Crossing, said: list[str]) -> None:
    if crossing.volume is not None:
        runs = f" ({number_text(crossing.runs)} runs per month)" if crossing.runs is not None else ""
        words = f"from {number_text(crossing.volume)} times today's volume{runs} on, {crossing.cheaper} is cheaper"
    else:
        words = f"from {crossing.month} on, {crossing.cheaper} is cheaper"
    said.append(f"break-even of {crossing.scenario} with the base: {words}")


def _without_crossing(found: Comparison, said: list[str]) -> None:
    for option in found.options[1:]:
        if not any(crossing.scenario == option.name for crossing in found.crossings) and option.difference:
            side = "cheaper" if option.difference < 0 else "dearer"
            said.append(f"{option.name} is {side} at any volume from a hundredth to a hundred times today's")


def proposals_sheet(found: list[Proposal], currency: str, month: str, everything: Decimal | None) -> Sheet:
    """One row a proposal, the largest saving first."""
    unit = currency or "no rate card"
    columns = (
        Column("proposal", "proposal"), Column("flow", "flow"), Column("step", "step", rank=1), Column("saving", f"saves {unit}/month", "money"),
        Column("of", "of the flow's", "money", rank=2), Column("check", "check before", rank=0),
    )  # fmt: skip
    rows = tuple(
        (proposal.title, proposal.flow, proposal.step, proposal.saving, proposal.of, proposal.check)
        for proposal in found
    )
    notes = []
    if everything is not None:
        notes.append(
            f"All that have a scenario, together: {money_text(everything)} {unit} per month (they overlap, so this is no sum)."
        )
    if any(proposal.scenario is not None for proposal in found):
        notes.append("`--write FOLDER` writes a scenario file for each; a proposal without one needs the flow rebuilt.")
    return Sheet(columns, rows, title=f"Proposals, {month}", notes=tuple(notes))
