"""Columns of a terminal table: input -> widths, and the laws of any table."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.writers.table.columns import fit_columns
from zeitbuch.writers.table.grid import GAP, NARROW_GAP
from zeitbuch.writers.table.tables import to_table

WORDS = st.lists(st.sampled_from(["ferry", "log", "a", "timetable", "of", "港", "97 %"]), max_size=9).map(" ".join)


@pytest.mark.parametrize(
    ("rows", "width", "expected"),
    [
        # All fit: the wide gap.
        ([["log", "on"]], 20, ([0, 1], [4, 4], GAP)),
        # One cell too few for the wide gap, not for the narrow one.
        ([["ferries", "departs"]], 16, ([0, 1], [7, 7], NARROW_GAP)),
        # To leave the shorter column whole would take six lines, to share takes three.
        (
            [["one two three four five six", "one two three four five six seven eight"]],
            28,
            ([0, 1], [11, 15], NARROW_GAP),
        ),
        # The short column whole, the long one broken.
        ([["log", "one two three four five six"]], 20, ([0, 1], [4, 14], NARROW_GAP)),
    ],
)
def test_fit_columns(rows: list[list[str]], width: int, expected: tuple[list[int], list[int], str]) -> None:
    sheet = Sheet((Column("flow", "flow"), Column("note", "note")), tuple(map(tuple, rows)))
    assert tuple(fit_columns(sheet, rows, width, [False, False])) == expected


def test_a_column_of_less_rank_goes_before_one_that_must_stay_is_cut() -> None:
    sheet = Sheet((Column("flow", "flow"), Column("owner", "owner", rank=1)), (("timetable", "ferrymaster"),))
    assert fit_columns(sheet, [["timetable", "ferrymaster"]], 12, [False, False]).kept == [0]
    assert "left out for want of width: owner" in " ".join(to_table(sheet, 12, False).split())


def test_a_column_that_holds_nothing_is_the_first_to_go_and_not_missed() -> None:
    sheet = Sheet(
        (Column("flow", "flow"), Column("note", "note"), Column("by", "by")), (("timetable", "", "ferrymaster"),)
    )
    assert fit_columns(sheet, [["timetable", "", "ferrymaster"]], 24, [False] * 3).kept == [0, 2]
    assert "left out" not in to_table(sheet, 24, False) and "note" not in to_table(sheet, 24, False)


@pytest.mark.parametrize(("letters", "whole"), [(31, True), (61, False)])
def test_a_long_word_stays_whole_where_there_is_room(letters: int, whole: bool) -> None:
    rows = [["a" * letters, "one two three four five six seven eight nine ten eleven twelve"]]
    widths = fit_columns(
        Sheet((Column("a", "a"), Column("b", "b")), (tuple(rows[0]),)), rows, 72, [False, False]
    ).widths
    assert (widths[0] >= letters) == whole


@given(rows=st.lists(st.tuples(WORDS, WORDS, WORDS), min_size=1, max_size=8), width=st.integers(40, 90))
def test_no_line_is_wider_than_the_table_and_no_word_is_lost(rows: list[tuple[str, str, str]], width: int) -> None:
    sheet = Sheet((Column("flow", "flow"), Column("step", "step"), Column("note", "note")), tuple(rows))
    kept, widths, gap = fit_columns(sheet, [list(row) for row in rows], width, [False] * 3)
    filled = [at for at in range(3) if any(row[at] for row in rows)]
    assert kept == [0, 1, 2] or (kept == filled and len(filled) > 1)
    assert sum(widths) + (len(kept) - 1) * len(gap) <= width
    shown = to_table(sheet, width, False).split()
    assert sorted(shown[len(kept) + 1 :]) == sorted(word for row in rows for cell in row for word in cell.split())


def test_over_nothing_of_which_a_note_speaks_stands_no_head() -> None:
    columns = (Column("flow", "flow"), Column("note", "note"))
    assert to_table(Sheet(columns, (), notes=("nothing found.",)), 40, False) == "nothing found.\n"
    assert (
        to_table(Sheet(columns, (), title="Findings", notes=("nothing found.",)), 40, False)
        == "Findings\n\nnothing found.\n"
    )
    assert "flow" in to_table(Sheet(columns, ()), 40, False)
