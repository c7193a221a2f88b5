# Charts in the look of the log: paper ground, ink, time or weight from the top down, patterns beside tones.
"""Charts of estimates (Matplotlib)."""

from __future__ import annotations

import io
from datetime import date
from typing import Any

from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.estimate.records import Driver, EstateEstimate, FlowEstimate
from zeitbuch.core.model.sheet import money_text, number_text
from zeitbuch.core.model.words import count_words
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.report.presentations import ChartData, UsageChart
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

PAPER, INK, QUIET = "#faf6ec", "#1f2d3d", "#8a8471"
_SHARES = (
    ("export", "from the export", "#1f2d3d", ""),
    ("measured", "measured", "#4f7480", ""),
    ("declared", "declared", "#a9b9a8", "///"),
    ("default", "defaults", "#f0e6c8", "..."),
)


def _make_figure(rows: float, left: float = 0.29, most: float = 160.0) -> tuple[Any, Any, float]:
    """A figure of so many rows in the look of the log, its axes and its height in inches."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"svg.hashsalt": "zeitbuch", "font.family": "DejaVu Sans", "hatch.linewidth": 0.6})
    from matplotlib.figure import Figure

    height = min(most, 1.75 + 0.42 * max(1, rows))
    figure = Figure(figsize=(10, height), facecolor=PAPER)
    axes: Any = figure.add_axes((left, 0.75 / height, 0.91 - left, (height - 1.65) / height), facecolor=PAPER)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(INK)
    axes.tick_params(colors=INK, labelsize=9, length=3)
    axes.tick_params(axis="y", length=0)
    return figure, axes, height


def write_head(figure: Any, height: float, title: str, under: str) -> None:
    figure.text(0.03, 1 - 0.32 / height, title, fontsize=13, color=INK, weight="bold", parse_math=False)
    figure.text(0.03, 1 - 0.58 / height, under, fontsize=9.5, color=INK, parse_math=False)


def add_legend(figure: Any, height: float, handles: list[Any], title: str = "") -> None:
    legend = figure.legend(
        handles=handles, loc="upper right", bbox_to_anchor=(0.97, 1 - 0.18 / height), ncols=max(1, len(handles)), frameon=False,
        fontsize=8.5, title=title or None, title_fontsize=8.5, alignment="right", columnspacing=1.2, handlelength=1.6,
    )  # fmt: skip
    for text in (*legend.get_texts(), legend.get_title()):
        text.set_color(INK)


def save_figure(figure: Any, form: str) -> bytes:
    out = io.BytesIO()
    metadata = {"Date": None} if form == "svg" else {"Software": None}
    figure.savefig(out, format=form, dpi=128, facecolor=PAPER, metadata=metadata)
    return out.getvalue()


def _shorten_name(text: str, most: int = 38) -> str:
    name = make_inert(text, keep_lines=False)
    return name if len(name) <= most else name[: most - 1] + "…"


def _label_rows(axes: Any, names: list[str]) -> None:
    axes.set_yticks(range(len(names)), names, fontsize=9, color=INK, parse_math=False)
    axes.set_ylim(max(1, len(names)) - 0.4, -0.6)


def flows_chart(result: EstateEstimate, form: str = "png") -> bytes:
    """Bars of the month's bill by flow, divided by what it is based on, with a line from P10 to P90; ``form`` is png or svg. Same
    input, same bytes."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    known = [f for f in result.flows if f.cost_month is not None]
    known.sort(key=lambda f: (-_bill_of(f), f.name))
    unknown = [f.name for f in result.flows if f.cost_month is None]
    figure, axes, height = _make_figure(len(known))
    highest = (max(_bill_of(f), f.month_spread.p90 if f.month_spread is not None else 0.0) for f in known)
    top = max(highest, default=0.0) or 1.0
    for at, f in enumerate(known):
        _draw_flow_bar(f, axes, at, top)
    _label_rows(axes, [_shorten_name(f.name) for f in known])
    axes.set_xlim(0, top * 1.14)
    axes.set_xlabel(f"{result.currency} per month", fontsize=9, color=INK)
    left_out = f"; without {len(unknown)} of unknown volume" if unknown else ""
    write_head(figure, height, f"Bill by flow, {result.month}", f"{_total_words(result)}{left_out}")
    handles: list[Any] = [Patch(facecolor=c, hatch=h, edgecolor=INK, linewidth=0.7, label=w) for _, w, c, h in _SHARES]
    if any(f.month_spread is not None for f in known):
        handles.append(Line2D([], [], color=INK, marker="|", markersize=8, label="P10 to P90"))
    add_legend(figure, height, handles, "what the bill is based on, volume included")
    return save_figure(figure, form)


def _total_words(result: EstateEstimate) -> str:
    """'138.77 EUR in total (121 to 158)'."""
    t = result.total
    words = f"{money_words(t.bill_month, result.currency)} in total"
    if t.spread is not None:
        words += f" ({money_text(t.spread.p10)} to {money_text(t.spread.p90)})"
    return words + (f", fees {money_words(t.fees_month)}" if t.fees_month.amount else "")


def _bill_of(f: FlowEstimate) -> float:
    assert f.bill_month is not None
    return float(f.bill_month.amount)


def _draw_flow_bar(f: FlowEstimate, axes: Any, at: int, top: float) -> None:
    assert f.cost_month is not None
    left, whole = 0.0, _bill_of(f)
    for key, _, colour, hatch in _SHARES:
        part = whole * getattr(f.evidence_month, key)
        if part:
            axes.barh(at, part, 0.62, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.7)
        left += part
    s, end = f.month_spread, whole
    if s is not None:
        axes.plot([s.p10, s.p90], [at, at], color=INK, linewidth=1.6, marker="|", markersize=9, markeredgewidth=1.6)
        end = max(whole, s.p90)
    assert f.bill_month is not None
    words = money_words(f.bill_month)
    axes.text(end + top * 0.012, at, words, va="center", fontsize=9, color=INK, parse_math=False)


def runs_chart(result: EstateEstimate, form: str = "png") -> bytes:
    """How the cost of a run varies, a row a flow: from P5 to P95, with median, mean and P99, on one logarithmic scale."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    flows = [f for f in result.flows if f.spread is not None and f.spread.mean > 0 and not f.with_called.unknown]
    flows.sort(key=lambda f: (-(f.spread.mean if f.spread else 0), f.name))
    figure, axes, height = _make_figure(len(flows))
    least = min((max(f.spread.p5, f.spread.mean / 1000) for f in flows if f.spread), default=0.001)
    most = max((f.spread.p99 for f in flows if f.spread), default=1.0)
    for at, f in enumerate(flows):
        _draw_run_bar(f, least, axes, at)
    _label_rows(axes, [_shorten_name(f.name) for f in flows])
    axes.set_xscale("log")
    axes.set_xlim(least * 0.8, most * 1.4)
    axes.xaxis.set_major_formatter(lambda x, _: f"{x:.10f}".rstrip("0").rstrip("."))
    axes.xaxis.set_minor_formatter(lambda x, _: "")
    axes.grid(axis="x", color=QUIET, linewidth=0.4, alpha=0.5)
    axes.set_axisbelow(True)
    axes.set_xlabel(f"{result.currency} per run, with the flows it calls", fontsize=9, color=INK)
    runs = sorted({f.spread.runs for f in flows if f.spread is not None})
    span = f"{runs[0]:,}" if len(runs) == 1 else f"{runs[0]:,} to {runs[-1]:,}" if runs else "no"
    write_head(figure, height, "What one run costs", f"{span} sampled runs a flow; at the left edge: that or less")
    add_legend(figure, height, [
        Patch(facecolor="#f0e6c8", edgecolor=INK, linewidth=0.7, label="P5 to P95"),
        Patch(facecolor="#a9b9a8", hatch="///", edgecolor=INK, linewidth=0.7, label="middle half"),
        Line2D([], [], color=INK, linewidth=2.2, label="median"),
        Line2D([], [], marker="D", markerfacecolor=PAPER, markeredgecolor=INK, linestyle="none", label="mean"),
        Line2D([], [], marker="|", markersize=8, color=INK, linewidth=0.9, label="to P99"),
    ])  # fmt: skip
    return save_figure(figure, form)


def _draw_run_bar(f: FlowEstimate, least: float, axes: Any, at: int) -> None:
    assert f.spread is not None
    s = f.spread
    low, high = max(s.p5, least), max(s.p95, least)
    quarter, three = max(s.p25, least), max(s.p75, least)
    axes.plot([low, max(s.p99, least)], [at, at], color=INK, linewidth=0.9, zorder=1)
    axes.barh(at, high - low, 0.26, left=low, color="#f0e6c8", edgecolor=INK, linewidth=0.7, zorder=2)
    axes.barh(
        at, three - quarter, 0.5, left=quarter, color="#a9b9a8", hatch="///", edgecolor=INK, linewidth=0.7, zorder=3
    )
    axes.plot([max(s.p50, least)] * 2, [at - 0.36, at + 0.36], color=INK, linewidth=2.2, zorder=4)
    axes.plot([s.p99] * 2, [at - 0.18, at + 0.18], color=INK, linewidth=1.2, zorder=4)
    axes.plot(
        [s.mean],
        [at],
        marker="D",
        markersize=5.5,
        markerfacecolor=PAPER,
        markeredgecolor=INK,
        zorder=5,
        linestyle="none",
    )


def drivers_chart(found: list[Driver], currency: str, per: str, form: str = "png", most: int = 15) -> bytes:
    """The assumptions that move the figure most: from the cost at the low end of each to that at the high end."""
    from matplotlib.patches import Patch

    rows = found[:most]
    figure, axes, height = _make_figure(len(rows) * 1.15, left=0.44)
    for at, d in enumerate(rows):
        for end, colour, hatch in ((d.at_low, "#a9b9a8", "///"), (d.at_high, "#1f2d3d", "")):
            axes.barh(at, float(end - d.cost), 0.6, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.7)
    reach = max((abs(float(x - d.cost)) for d in rows for x in (d.at_low, d.at_high)), default=1.0) or 1.0
    least = min((float(min(d.at_low, d.at_high) - d.cost) for d in rows), default=0.0)
    axes.set_xlim(min(least * 1.12, -0.16 * reach), reach * 1.2)
    for at, d in enumerate(rows):
        right = max(0.0, float(d.at_low - d.cost), float(d.at_high - d.cost))
        axes.text(
            right + reach * 0.012, at, money_text(d.swing), va="center", fontsize=8.5, color=INK, parse_math=False
        )
    axes.axvline(0, color=INK, linewidth=1.0)
    _label_rows(
        axes,
        [
            f"{_shorten_name(d.flow, 30)}\n{_shorten_name(d.what, 42)}: {number_text(d.low)} … {number_text(d.high)}"
            for d in rows
        ],
    )
    for label in axes.get_yticklabels():
        label.set_fontsize(8)
    axes.set_xlabel(
        f"{currency} per {per}, more or less than estimated; at the bar: by how much it moves the figure in total",
        fontsize=9,
        color=INK,
    )
    shown = (
        f"the {len(rows)} that move it most, of {len(found)}" if len(found) > len(rows) else f"{len(rows)} assumptions"
    )
    write_head(figure, height, f"What moves the cost of a {per} most", shown)
    add_legend(figure, height, [
        Patch(facecolor="#a9b9a8", hatch="///", edgecolor=INK, linewidth=0.7, label="at its low end"),
        Patch(facecolor="#1f2d3d", edgecolor=INK, linewidth=0.7, label="at its high end"),
    ])  # fmt: skip
    return save_figure(figure, form)


def months_chart(results: list[EstateEstimate], card: RateCard | None, form: str = "png") -> bytes:
    """A bar a month, models, meters and fees; dates on which the rate card changes are marked between the bars."""
    from matplotlib.patches import Patch

    figure, axes, height = _make_figure(len(results), left=0.11)
    kinds = (("models", "#4f7480", ""), ("meters", "#a9b9a8", "///"), ("fees", "#f0e6c8", "..."))
    wholes: list[float] = []
    for at, r in enumerate(results):
        _draw_month_bar(r, kinds, axes, at, wholes)
    top = max(wholes, default=0.0) or 1.0
    for at, r in enumerate(results):
        t = r.total
        words = money_words(t.bill_month)
        axes.text(wholes[at] + top * 0.012, at, words, va="center", fontsize=9, color=INK, parse_math=False)
    axes.set_xlim(0, top * 1.32)
    _label_rows(axes, [r.month for r in results])
    axes.set_xlabel(f"{results[0].currency} per month", fontsize=9, color=INK)
    changes = card.change_dates() if card is not None else []
    _mark_changes(results, changes, axes, top)
    missing = sorted({name for r in results for name in r.total.unknown_volume})
    whole = sum(wholes)
    left_out = f"; without {count_words(len(missing), 'flow')} of unknown volume" if missing else ""
    write_head(
        figure,
        height,
        "Month by month",
        f"{money_text(whole)} {results[0].currency} in the {len(results)} months{left_out}",
    )
    shown = [
        k
        for k, on in zip(
            kinds, (True, any(r.hosts for r in results), any(r.total.fees_month.amount for r in results)), strict=True
        )
        if on
    ]
    add_legend(
        figure, height, [Patch(facecolor=c, hatch=h, edgecolor=INK, linewidth=0.7, label=w) for w, c, h in shown]
    )
    return save_figure(figure, form)


def _draw_month_bar(
    r: EstateEstimate,
    kinds: tuple[tuple[str, str, str], tuple[str, str, str], tuple[str, str, str]],
    axes: Any,
    at: int,
    wholes: list[float],
) -> None:
    left = 0.0
    for money_of, (_, colour, hatch) in zip(
        (r.total.cost_month, r.total.meters_month, r.total.fees_month), kinds, strict=True
    ):
        part = float(money_of.amount)
        if part:
            axes.barh(at, part, 0.62, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.7)
        left += part
    wholes.append(left)


def _mark_changes(results: list[EstateEstimate], changes: list[date], axes: Any, top: float) -> None:
    for at, r in enumerate(results):
        if at and any(d.isoformat()[:7] == r.month for d in changes):
            axes.plot([0, top * 1.32], [at - 0.5] * 2, color=INK, linewidth=0.9, linestyle=(0, (5, 3)))
            axes.text(top * 1.32, at - 0.53, "the rate card changes", ha="right", va="bottom", fontsize=7.5, color=INK)


def write_png(data: ChartData | UsageChart, look: TextLook) -> bytes:
    """A chart as a picture."""
    return draw_chart(data, "png")


def write_svg(data: ChartData | UsageChart, look: TextLook) -> bytes:
    """A chart as a drawing."""
    return draw_chart(data, "svg")


def draw_chart(data: ChartData | UsageChart, form: str) -> bytes:
    """The chart of a kind."""
    if isinstance(data, UsageChart):
        from .usage_chart import usage_chart

        return usage_chart(data.reconciled, form)
    if data.kind == "drivers":
        return drivers_chart(list(data.drivers), data.currency, data.per, form)
    if data.kind == "months":
        return months_chart(list(data.months), data.card, form)
    assert data.estimate is not None
    return runs_chart(data.estimate, form) if data.kind == "runs" else flows_chart(data.estimate, form)
