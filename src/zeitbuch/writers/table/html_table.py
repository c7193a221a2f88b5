"""A sheet as a small HTML table, for notebooks."""

from __future__ import annotations

from html import escape

from zeitbuch.core.model.sheet import Sheet
from zeitbuch.core.model.words import count_words
from zeitbuch.writers.escape.text import make_inert

from .tables import cell_texts, is_number_column

MOST = 40  # rows that are shown


def to_html_table(sheet: Sheet) -> str:
    """The table with its title, its first rows, totals and notes; how many more rows there are."""
    right = [' style="text-align:right"' if is_number_column(column) else "" for column in sheet.columns]

    def row(cells: list[str], tag: str = "td") -> str:
        told = "".join(f"<{tag}{side}>{_told(cell)}</{tag}>" for cell, side in zip(cells, right, strict=True))
        return f"<tr>{told}</tr>"

    head = row([column.title for column in sheet.columns], "th")
    body = [row(cells) for cells in cell_texts(sheet, MOST)]
    total = [row(cells, "th") for cells in cell_texts(Sheet(sheet.columns, (sheet.total,)), 1)] if sheet.total else []
    more = len(sheet.rows) - MOST
    notes = [*([f"and {count_words(more, 'more row')}"] if more > 0 else []), *sheet.notes]
    title = f"<p><b>{_told(sheet.title)}</b></p>" if sheet.title else ""
    below = "".join(f"<p>{_told(note)}</p>" for note in notes)
    inner = to_html_table(sheet.below) if sheet.below is not None else ""
    return f"{title}<table><thead>{head}</thead><tbody>{''.join([*body, *total])}</tbody></table>{below}{inner}"


def _told(text: str) -> str:
    return escape(make_inert(text, keep_lines=False))
