# Estimate and log as tables: the gaps by one side, and below them what explains the difference, each with its money.
"""Tables of a reconciliation."""

from __future__ import annotations

from decimal import Decimal

from msgspec import structs

from zeitbuch.core.actuals.matching import Kind
from zeitbuch.core.actuals.records import Explanation, Reconciled
from zeitbuch.core.assumptions.money import money_cell
from zeitbuch.core.model.sheet import Column, Sheet, top_of
from zeitbuch.core.model.words import count_words

MATCH_WORDS: dict[Kind, str] = {
    "exact": "the same name", "mapped": "by the mapping", "renamed": "a former name, by the book",
    "near": "near, not counted with it", "ambiguous": "several, not counted with any", "none": "not in the estate",
}  # fmt: skip
_COST_FROM = {
    "log": "costs are those of the log",
    "rates": "the log has no costs: its tokens at the prices of the rate card",
    "both": "costs of the log, and where it has none its tokens at the prices of the rate card",
    "nothing": "nothing says what anything in the log costs",
}
_NAMED = 3  # flows
SHOWN = 12  # explanations below a table


def gaps_sheet(result: Reconciled, full: bool = False, top: int | None = None) -> Sheet:
    """Estimate and log by one side, the largest difference first."""
    zeros = full or any(gap.zero for gap in result.groups)
    columns = (
        Column("subject", "id") if full else Column("name", result.by, least=14),
        Column("name", result.by) if full else Column("estimated_calls", "estimated calls", "count", rank=2),
        *((Column("estimated_calls", "estimated calls", "count"),) if full else ()),
        Column("logged_calls", "calls in the log", "count", rank=2),
        Column("estimated_cost", f"estimated {result.currency}".strip(), "money"),
        Column("logged_cost", f"log {result.currency}".strip(), "money"),
        Column("difference", "difference", "money"),
        Column("ratio", "log / estimate", "percent", rank=1),
        *((Column("zero", "nothing logged: why", rank=2),) if zeros else ()),
    )
    rows = [
        (
            *((gap.subject, gap.name) if full else (gap.name,)),
            gap.estimated_calls, gap.logged_calls, gap.estimated_cost, gap.logged_cost, gap.difference, gap.ratio,
            *((gap.zero,) if zeros else ()),
        )
        for gap in result.groups
    ]  # fmt: skip
    total = (
        *(("", "total") if full else ("total",)), *_total_calls(result),
        money_cell(result.estimated, result.left_out), result.compared, result.difference, _ratio(result), *(("",) if zeros else ()),
    )  # fmt: skip
    sheet = Sheet(columns, tuple(rows), total if not full else None, title=_title(result))
    shown = top_of(sheet, top)
    notes = (*shown.notes, *reconcile_notes(result))
    return structs.replace(shown, notes=notes, below=why_sheet(result))


def _total_calls(result: Reconciled) -> tuple[float | None, float | None]:
    """Estimated calls and those of the log; None where one of the subjects has none that are known."""
    return _sum([gap.estimated_calls for gap in result.groups]), _sum([gap.logged_calls for gap in result.groups])


def _sum(values: list[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return sum(known) if len(known) == len(values) else None


def _ratio(result: Reconciled) -> float | None:
    if result.compared is None or not result.estimated:
        return None
    return float(result.compared / result.estimated)


def _title(result: Reconciled) -> str:
    return f"Estimate and log, {result.first_day} to {result.last_day} ({count_words(result.days, 'day')})"


def reconcile_notes(result: Reconciled) -> tuple[str, ...]:
    """Where the figures come from, and what is left out."""
    notes = [_COST_FROM[result.cost_from], *result.notes]
    names = result.left_out
    if names and result.estimated is not None:
        more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
        notes.append(
            f"the estimate leaves out flows of which nobody has said how often they run, or what a model costs: {', '.join(names[:_NAMED])}{more}"
        )
    if result.estimated is None:
        notes.append("nothing is estimated in money without a rate card: --rates FILE")
    return tuple(notes)


def why_sheet(result: Reconciled) -> Sheet | None:
    """What explains the difference, the largest parts first, and what is left; None where the difference is not known."""
    if result.difference is None:
        return None
    with_money = [one for one in result.explanations if one.money]
    without = [one for one in result.explanations if one.money is None]
    rows: list[tuple[object, ...]] = [_why_row(one, result) for one in with_money[:SHOWN]]
    left = with_money[SHOWN:]
    if left:
        money = sum((one.money or Decimal(0) for one in left), Decimal(0))
        rows.append((money, count_words(len(left), "more reason"), "--explanations shows all", ""))
    rows += [_why_row(one, result) for one in without]
    columns = (
        Column("money", f"of it {result.currency}".strip(), "money"),
        Column("subject", "about", least=12),
        Column("words", "what explains the difference", least=30),
        Column("days", "when", rank=1),
    )
    return Sheet(columns, tuple(rows), (result.unexplained, "unexplained", "", ""))


def _why_row(one: Explanation, result: Reconciled) -> tuple[object, ...]:
    """A reason with its days, where it is not all of them."""
    whole = (one.first_day, one.last_day) == (result.first_day, result.last_day)
    span = one.first_day if one.first_day == one.last_day else f"{one.first_day} to {one.last_day}"
    words = one.words if one.certain else f"{one.words} (it seems)"
    return one.money if one.money is not None else "", one.subject, words, "" if whole else span


def explanations_sheet(result: Reconciled, full: bool = False) -> Sheet:
    """What explains the difference, each with its days and money."""
    columns = (
        Column("explanation", "reason", rank=1),
        Column("subject", "about", least=14),
        Column("words", "what happened", least=30),
        Column("first_day", "from"),
        Column("last_day", "to", rank=2),
        Column("days", "days", "count", rank=3),
        Column("money", f"money {result.currency}".strip(), "money"),
        Column("certain", "how sure", rank=2),
    )
    rows = tuple(
        [
            (
                one.code,
                one.subject,
                one.words,
                one.first_day,
                one.last_day,
                one.days,
                one.money,
                "certain" if one.certain else "it seems",
            )
            for one in result.explanations
        ]
    )
    total = ("", "unexplained", "", "", "", None, result.unexplained, "") if not full else None
    return Sheet(columns, rows, total, title=_title(result))
