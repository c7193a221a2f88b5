# Estimate and log side by side, a day a column: what is between them, and from when on something explains it.
"""The chart of a reconciliation (Matplotlib)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from math import isnan
from typing import Any

from zeitbuch.core.actuals.records import Explanation, GroupGap, Reconciled
from zeitbuch.core.model.sheet import money_text
from zeitbuch.core.model.words import count_words
from zeitbuch.writers.escape.text import make_inert

from .charts import INK, PAPER, QUIET, add_legend, save_figure, write_head

_LOG, _GAP = "#a9b9a8", "#f0e6c8"
_MOST_MARKS = 6
_WIDE, _HIGH = 12.0, 7.0
_NEAR, _FEW_DAYS = 2, 16  # days
_LONGEST, _LONGEST_BESIDE = 150, 96  # letters over a bar of all days, and beside one


def usage_chart(result: Reconciled, form: str = "png") -> bytes:
    """Bars of the log and a line of the estimate by day, the explanations with the most money marked below; ``result`` by day, ``form`` png or
    svg. Same input, same bytes."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"svg.hashsalt": "zeitbuch", "font.family": "DejaVu Sans", "hatch.linewidth": 0.6})
    from matplotlib.figure import Figure
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    figure = Figure(figsize=(_WIDE, _HIGH), facecolor=PAPER)
    axes: Any = figure.add_axes((0.075, 0.37, 0.9, 0.47), facecolor=PAPER)
    below: Any = figure.add_axes((0.075, 0.03, 0.9, 0.27), facecolor=PAPER)
    days = [date.fromisoformat(result.first_day) + timedelta(place) for place in range(result.days)]
    by_day = {gap.subject: gap for gap in result.groups}
    gaps = [by_day.get(str(day)) for day in days]
    estimated = _draw_days(axes, gaps, len(days))
    _label_days(axes, days, result.currency)
    _draw_marks(below, axes, result, days)
    write_head(figure, _HIGH, "Estimate and log by day", _head_words(result, estimated))
    handles: list[Any] = [Patch(facecolor=_LOG, hatch="///", edgecolor=INK, linewidth=0.7, label="log")]
    if estimated:
        words = "estimated, and no line in the log"
        handles += [
            Line2D([], [], color=INK, linewidth=1.8, label="estimate"),
            Patch(facecolor=_GAP, edgecolor=QUIET, linewidth=0.7, linestyle="--", label=words),
        ]
    add_legend(figure, _HIGH, handles)
    return save_figure(figure, form)


def _head_words(result: Reconciled, estimated: bool) -> str:
    """Both totals, and what the estimate leaves out."""
    total = f"{_money(result.compared)} in the log, {_money(result.estimated)} estimated, {_money(result.difference)} {result.currency} between them"
    left_out = (
        f"; without {count_words(len(result.left_out), 'flow')} of unknown volume or price" if result.left_out else ""
    )
    by_day = "" if estimated else ", so that no day has an estimate" if left_out else "; no day has an estimate"
    return f"{result.first_day} to {result.last_day}: {total}{left_out}{by_day}"


def _money(value: Any) -> str:
    return "?" if value is None else money_text(value)


def _draw_days(axes: Any, gaps: Sequence[GroupGap | None], count: int) -> bool:
    """Draws both; returns whether any day has an estimate."""
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("bottom", "left"):
        axes.spines[side].set_color(INK)
    steps: list[float] = []
    for at, gap in enumerate(gaps):
        estimated = float(gap.estimated_cost) if gap is not None and gap.estimated_cost is not None else float("nan")
        logged = float(gap.logged_cost) if gap is not None and gap.logged_cost is not None else 0.0
        steps.append(estimated)
        if logged:
            axes.bar(at, logged, 0.86, color=_LOG, hatch="///", edgecolor=INK, linewidth=0.6, zorder=2)
        elif estimated > 0:
            axes.bar(at, estimated, 0.86, color=_GAP, edgecolor=QUIET, linewidth=0.7, linestyle="--", zorder=1)
    edges = [place - 0.5 for place in range(count + 1)]
    axes.stairs(steps, edges, baseline=None, color=INK, linewidth=1.8, zorder=3)
    axes.set_xlim(-0.6, count - 0.4)
    axes.set_ylim(bottom=0)
    return not all(map(isnan, steps))


def _label_days(axes: Any, days: Sequence[date], currency: str) -> None:
    """The first of each month and each Monday; of short spans each day, of long ones months alone."""
    long = len(days) > 100
    ticks = [at for at, day in enumerate(days) if day.day == 1 or at == 0]
    if not long:  # Mondays, where they do not stand upon the first of a month
        ticks += [
            at for at, day in enumerate(days) if day.weekday() == 0 and min(abs(at - tick) for tick in ticks) > _NEAR
        ]
    ticks = sorted(ticks) if len(days) > _FEW_DAYS else list(range(len(days)))
    words = [f"{days[at]:%d %b}" if not long else f"{days[at]:%b %Y}" for at in ticks]
    axes.set_xticks(
        ticks,
        words,
        fontsize=8,
        color=INK,
        rotation=45 if len(ticks) > 12 else 0,
        ha="right" if len(ticks) > 12 else "center",
    )
    axes.tick_params(colors=INK, labelsize=8.5, length=3)
    axes.set_ylabel(f"{currency} a day", fontsize=9, color=INK)
    axes.grid(axis="y", color=QUIET, linewidth=0.4, alpha=0.5)
    axes.set_axisbelow(True)


def _draw_marks(below: Any, axes: Any, result: Reconciled, days: Sequence[date]) -> None:
    """A bar for the days of each of the explanations with the most money, with what it says."""
    below.set_axis_off()
    below.set_xlim(*axes.get_xlim())
    shown = [one for one in result.explanations if one.money][:_MOST_MARKS]
    below.set_ylim(_MOST_MARKS - 0.3, -0.9)
    place = {day: at for at, day in enumerate(days)}
    for row, one in enumerate(shown):
        first = place.get(date.fromisoformat(one.first_day), 0)
        last = place.get(date.fromisoformat(one.last_day), len(days) - 1)
        below.plot(
            [first - 0.4, last + 0.4],
            [row, row],
            color=INK,
            linewidth=2.2,
            solid_capstyle="butt",
            marker="|",
            markersize=8,
        )
        # The words stand where there is room beside the bar, and above it where it takes all days.
        middle = len(days) / 2
        at, side = (
            (last + 0.9, "left")
            if last < middle
            else (first - 0.9, "right")
            if first > middle
            else (first - 0.4, "left")
        )
        whole = first <= middle <= last
        below.text(
            at,
            row - (0.34 if whole else 0),
            _mark_words(one, result.currency, _LONGEST if whole else _LONGEST_BESIDE),
            fontsize=8,
            color=INK,
            va="center",
            ha=side,
            parse_math=False,
        )
    if result.unexplained is not None:
        left = len([one for one in result.explanations if one.money]) - len(shown)
        words = f"{left} more reasons; " if left > 0 else ""
        below.text(
            -0.5,
            _MOST_MARKS - 0.35,
            f"{words}unexplained: {_money(result.unexplained)} {result.currency}",
            fontsize=8,
            color=INK,
            va="center",
        )


def _mark_words(one: Explanation, currency: str, most: int) -> str:
    text = make_inert(f"{_money(one.money)} {currency}: {one.subject}: {one.words}", keep_lines=False)
    return text if len(text) <= most else text[: most - 1] + "…"
