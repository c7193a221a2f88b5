# The start page of a site: the estate in figures, and its flows as a table that a small script of our own sorts, filters and searches. Without the
# script the table is all there. Names are escaped, and a content policy lets no other script run.
"""The start page of a site, as HTML."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from html import escape
from typing import NamedTuple

from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.report.site.pages import GROUPINGS, STATES, figures_of, review_words
from zeitbuch.core.report.site.rows import Site, SiteRow

from .scripted import inert_text, scripted_page

_FIRST = 200  # rows of a long table that are laid out at first, as the style sheet has it
_WEIGHTS = (("high", 1_000_000), ("medium", 1_000), ("low", 1))


class _Cell(NamedTuple):
    """What a cell shows, and what it is sorted and picked by (where that is something else)."""

    text: str
    value: str | None = None


class _Column(NamedTuple):
    title: str
    cell: Callable[[SiteRow], _Cell]
    is_number: bool = False
    pick: bool = False  # whether a list of its values narrows the table


def to_start_page(site: Site, unread: Sequence[str] = (), changes: Sequence[str] = ()) -> str:
    """The page; ``unread`` are files of which nobody can say what flows they hold, ``changes`` what changed since the last recorded version."""
    rows = [row for row in site.rows if not row.gone]
    figures = "".join(
        f"<div><dt>{inert_text(key)}</dt><dd>{inert_text(value)}</dd></div>" for key, value in figures_of(site, rows)
    )
    columns = _columns(site)
    parts = [
        "<h1>Flows</h1>",
        f"<dl class=figures>{figures}</dl>",
        _ways(),
        *_changes(changes),
        "<h2 id=inventory>Inventory</h2>",
        _bar(columns, rows),
        _table(columns, rows),
        *_gone([row for row in site.rows if row.gone]),
    ]
    if unread:
        parts.append(
            f"<p>Not described here, or not whole, for they could not be read: {inert_text(', '.join(unread))}.</p>"
        )
    return scripted_page("Flows", "\n".join(parts), "start.js")


def _ways() -> str:
    links = [
        ("summary", "Summary for the board"),
        ("estate", "Map of the estate"),
        *[(one.file, one.title) for one in GROUPINGS],
    ]
    shown = "".join(f'<a href="{file}.html">{title}</a>' for file, title in links)
    return f"<nav class=ways aria-label='Other pages'>{shown}</nav>"


def _changes(changes: Sequence[str]) -> list[str]:
    if not changes:
        return []
    items = "".join(f"<li>{inert_text(one)}</li>" for one in changes[1:])
    rest = [f"<ul>{items}</ul>"] if items else []
    return ["<h2 id=changes>Since the last recorded version</h2>", f"<p>{inert_text(changes[0])}</p>", *rest]


def _findings_cell(row: SiteRow) -> _Cell:
    if row.high is None:
        return _Cell("", "")
    found = [(getattr(row, severity), severity, weight) for severity, weight in _WEIGHTS]
    words = ", ".join(f"{number} {severity}" for number, severity, _ in found if number)
    return _Cell(words or "none", str(sum(number * weight for number, _, weight in found)))


def _columns(site: Site) -> tuple[_Column, ...]:
    def cost(row: SiteRow) -> _Cell:
        if row.cost is None:
            return _Cell("not known", "")
        here = (row.month, row.currency) == (site.month, site.currency)
        return _Cell(row.cost_words.partition(f" {row.currency} ")[0] if here else row.cost_words, repr(row.cost))

    return (
        _Column("flow", lambda row: _Cell(row.name)),
        _Column("state", lambda row: _Cell(_STATES.get(row.state, row.state)), pick=True),
        _Column(
            "owner",
            lambda row: _Cell(", ".join(row.owners) or "none named", "; ".join(row.owners) or "none named"),
            pick=True,
        ),
        _Column("folder", lambda row: _Cell(row.folder), pick=True),
        _Column("trigger", lambda row: _Cell(row.trigger)),
        _Column("activities", lambda row: _Cell(f"{row.activities:,}", str(row.activities)), is_number=True),
        _Column("with AI", lambda row: _Cell(f"{row.ai_steps:,}", str(row.ai_steps)), is_number=True),
        _Column("AI calls a month", _calls_cell, is_number=True),
        _Column(f"{site.currency or 'cost'} in {site.month}" if site.month else "cost", cost, is_number=True),
        _Column("findings", _findings_cell, is_number=True),
        _Column("review", lambda row: _Cell(review_words(row), row.review), pick=True),
        _Column("changed", lambda row: _Cell(row.changed)),
    )


_STATES = {**STATES, "unknown": "not known", "draft": "draft"}


def _calls_cell(row: SiteRow) -> _Cell:
    return _Cell("not known", "") if row.calls is None else _Cell(number_text(row.calls), repr(row.calls))


def _bar(columns: Sequence[_Column], rows: Sequence[SiteRow]) -> str:
    picks = []
    for place, column in enumerate(columns):
        values = sorted({one for row in rows for one in _picked(column, row)}, key=str.casefold)
        if column.pick and len(values) > 1:
            options = "".join(f'<option value="{inert_text(one)}">{inert_text(one)}</option>' for one in values)
            picks.append(
                f"<label>{column.title}<select data-column={place}><option value=''>all</option>{options}</select></label>"
            )
    find = "<label for=q>find<input id=q type=search autocomplete=off placeholder='name, owner, trigger'></label>"
    whole = f"<button type=button id=whole>Show all {len(rows):,}</button>" if len(rows) > _FIRST else ""
    return f"<div class=bar role=search>{find}{''.join(picks)}<output id=count aria-live=polite></output>{whole}</div>"


def _picked(column: _Column, row: SiteRow) -> Iterable[str]:
    cell = column.cell(row)
    return [one for one in (cell.text if cell.value is None else cell.value).split("; ") if one] if column.pick else []


def _table(columns: Sequence[_Column], rows: Sequence[SiteRow]) -> str:
    heads = "".join(
        f"<th scope=col{' class=num' if one.is_number else ''}><button type=button>{one.title}</button></th>"
        for one in columns
    )
    lines = "\n".join(
        f"<tr{' class=off' if row.state == 'off' else ''}>{''.join(_cells(columns, row))}</tr>" for row in rows
    )
    return f"<div class=wide tabindex=0><table id=flows><thead><tr>{heads}</tr></thead><tbody>\n{lines}\n</tbody></table></div>"


def _cells(columns: Sequence[_Column], row: SiteRow) -> Iterable[str]:
    for place, column in enumerate(columns):
        cell = column.cell(row)
        text = f'<a href="{escape(row.file)}.html">{inert_text(cell.text)}</a>' if place == 0 else inert_text(cell.text)
        marks = [" class=num"] if column.is_number else []
        marks += [f' data-v="{inert_text(cell.value)}"'] if cell.value is not None else []
        yield f"<td{''.join(marks)}>{text}</td>"


def _gone(rows: Sequence[SiteRow]) -> list[str]:
    if not rows:
        return []
    items = "".join(
        f'<li><a href="{escape(row.file)}.html">{inert_text(row.name)}</a> ({inert_text(row.id)})</li>' for row in rows
    )
    return ["<h2 id=gone>No more in the sources</h2>", f"<ul>{items}</ul>"]
