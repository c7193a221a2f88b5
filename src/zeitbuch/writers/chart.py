# Charts in the look of the log: paper ground, ink, time or weight from the top down, patterns beside tones.
"""Charts of estimates (Matplotlib)."""

from __future__ import annotations

import io
from typing import Any

from zeitbuch.core.estimate import EstateEstimate
from zeitbuch.core.estimate_sheet import money_words

from .plain import inert

PAPER, INK, QUIET = "#faf6ec", "#1f2d3d", "#8a8471"
_SHARES = (
    ("read", "read from the export", "#1f2d3d", ""),
    ("measured", "measured", "#4f7480", ""),
    ("declared", "declared", "#a9b9a8", "///"),
    ("default", "defaults", "#f0e6c8", "..."),
)


def monthly_cost(result: EstateEstimate, form: str = "png") -> bytes:
    """Bars of monthly cost by flow, divided by what the cost rests on; ``form`` is png or svg. Same input, same bytes."""
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams.update({"svg.hashsalt": "zeitbuch", "font.family": "DejaVu Sans", "hatch.linewidth": 0.6})
    from matplotlib.figure import Figure

    known = [f for f in result.flows if f.cost_month is not None]
    known.sort(key=lambda f: (f.cost_month.amount if f.cost_month else 0, f.name), reverse=True)
    unknown = [f.name for f in result.flows if f.cost_month is None]
    rows = max(1, len(known))
    height = min(160.0, 1.75 + 0.42 * rows)
    figure = Figure(figsize=(10, height), facecolor=PAPER)
    axes: Any = figure.add_axes((0.29, 0.75 / height, 0.62, (height - 1.65) / height), facecolor=PAPER)
    names = []
    top = max((float(f.cost_month.amount) for f in known if f.cost_month), default=0.0) or 1.0
    for at, f in enumerate(known):
        assert f.cost_month is not None
        left, whole = 0.0, float(f.cost_month.amount)
        for key, _, colour, hatch in _SHARES:
            part = whole * getattr(f.evidence, key)
            if part:
                axes.barh(at, part, 0.62, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.7)
            left += part
        axes.text(
            whole + top * 0.012, at, money_words(f.cost_month), va="center", fontsize=9, color=INK, parse_math=False
        )
        name = inert(f.name, keep_lines=False)
        names.append(name if len(name) <= 38 else name[:37] + "…")
    axes.set_yticks(range(len(known)), names, fontsize=9, color=INK, parse_math=False)
    axes.set_ylim(rows - 0.4, -0.6)
    axes.set_xlim(0, top * 1.14)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(INK)
    axes.tick_params(colors=INK, labelsize=9, length=3)
    axes.tick_params(axis="y", length=0)
    axes.set_xlabel(f"{result.currency} per month", fontsize=9, color=INK)
    total = money_words(result.total.cost_month, result.currency)
    figure.text(0.03, 1 - 0.32 / height, f"Model cost by flow, {result.month}", fontsize=13, color=INK, weight="bold")
    left_out = f"; without {len(unknown)} of unknown volume" if unknown else ""
    figure.text(0.03, 1 - 0.58 / height, f"{total} in all{left_out}", fontsize=9.5, color=INK)
    from matplotlib.patches import Patch

    handles = [Patch(facecolor=c, hatch=h, edgecolor=INK, linewidth=0.7, label=w) for _, w, c, h in _SHARES]
    legend = figure.legend(
        handles=handles, loc="upper right", bbox_to_anchor=(0.97, 1 - 0.18 / height), ncols=4, frameon=False, fontsize=8.5,
        title="the cost rests on", title_fontsize=8.5, alignment="right", columnspacing=1.2, handlelength=1.6,
    )  # fmt: skip
    for text in (*legend.get_texts(), legend.get_title()):
        text.set_color(INK)
    out = io.BytesIO()
    figure.savefig(
        out, format=form, dpi=128, facecolor=PAPER, metadata={"Date": None} if form == "svg" else {"Software": None}
    )
    return out.getvalue()
