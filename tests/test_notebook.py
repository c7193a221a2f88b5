"""Results in notebooks: the tutorial is executed, and what its cells show is looked at."""

from __future__ import annotations

from pathlib import Path

import pytest

import zeitbuch
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.results import History, Picture, Text, to_data_frame
from zeitbuch.writers.table.html_table import MOST, to_html_table

TUTORIAL = Path(__file__).parent.parent / "docs" / "tutorial.ipynb"


def test_the_tutorial_runs_from_top_to_bottom_and_shows_what_it_says(demo: Path) -> None:
    import nbformat  # takes seconds to load
    from nbclient import NotebookClient

    notebook = nbformat.read(TUTORIAL, as_version=4)
    assert not any(cell.get("outputs") for cell in notebook.cells), "it is kept without what it showed"
    NotebookClient(notebook, timeout=240, kernel_name="python3", resources={"metadata": {"path": str(demo)}}).execute()
    shown = [
        {
            kind: text
            for output in cell.outputs
            for kind, text in output.get("data", {"text/plain": output.get("text")}).items()
        }
        for cell in notebook.cells
        if cell.cell_type == "code"
    ]
    assert shown[0]["text/plain"] == "Estate(17 flows)" and "<table>" in shown[0]["text/html"]
    assert "<svg" in shown[1]["text/html"] and shown[1]["text/plain"].startswith("Flow('letters', 'Customer letters'")
    assert shown[2]["text/markdown"].startswith("# Customer letters")
    assert shown[3]["text/plain"].startswith("Estimate(17 flows, 2026-")
    assert "image/png" in shown[-2] and "source-missing" in shown[-1]["text/plain"]
    assert all(len(one["text/plain"]) < 5_000 for one in shown)  # nothing prints an estate


def test_numbers_of_frames_are_numbers(november: zeitbuch.api.Estate) -> None:  # type: ignore[name-defined]
    frame = zeitbuch.estimate(november).to_frame()
    assert frame["calls_month"].dtype == float and frame["flow"].tolist()
    sheet = Sheet(
        (Column("a", "a", "count"), Column("m", "m", "money"), Column("t", "t")), ((1, None, "x"), (2, 1.5, "y"))
    )
    assert to_data_frame(sheet).dtypes[["a", "m"]].tolist() == [int, float]
    assert to_data_frame(Sheet(sheet.columns, ())).columns.tolist() == ["a", "m", "t"]


def test_a_table_is_inert_and_says_how_much_more_there_is() -> None:
    sheet = Sheet(
        (Column("a", "<b>a"), Column("n", "n", "count")),
        tuple(("<script>&\x1b[1m", place) for place in range(MOST + 2)),
    )
    shown = to_html_table(sheet)
    assert (
        "<script>" not in shown
        and "\x1b" not in shown
        and "and 2 more rows" in shown
        and shown.count("<tr>") == MOST + 1
    )
    assert repr(History(sheet)) == f"History({MOST + 2} rows)" and History(sheet)._repr_html_() == shown


def test_texts_and_pictures_are_what_they_were(november: zeitbuch.api.Estate) -> None:  # type: ignore[name-defined]
    drawn = zeitbuch.map(november.flows[0])
    assert isinstance(drawn, Text) and "<svg" in (drawn._repr_html_() or "") and Text("# words")._repr_html_() is None
    picture = zeitbuch.map(november.flows[0], "png")
    assert isinstance(picture, Picture) and picture._repr_png_()[:4] == b"\x89PNG"


def test_paths_may_be_paths_and_a_workspace_is_named(
    demo: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.chdir(tmp_path)
    whole = zeitbuch.read(workspace=demo / "zeitbuch.toml")
    assert len(whole.flows) == 17
    one = zeitbuch.read(demo / "november/kvarte/letters.json", dialects=[demo / "dialects/kvarte.toml"])
    assert [flow.id for flow in one.flows] == ["letters"]
    priced = zeitbuch.estimate(whole, workspace=demo / "zeitbuch.toml")
    assert priced.result.month == "2026-11" and priced.result.currency == "EUR"
    assert (
        zeitbuch.estimate(whole, demo / "rates.toml", demo / "assumptions.toml", "2026-11").result.total
        == priced.result.total
    )
    monkeypatch.chdir(demo)
    with pytest.raises(zeitbuch.ZeitbuchError, match=r"\[source-none\]"):
        zeitbuch.read()  # the workspace here was not named


def test_conversions_say_what_they_leave_out(november: zeitbuch.api.Estate) -> None:  # type: ignore[name-defined]
    letters = november.flow("letters")
    assert letters is not None
    assert zeitbuch.convert(letters).text.startswith("zeitbuch: 1\n") and not zeitbuch.convert(letters).problems
    refused = zeitbuch.convert(letters, "arazzo")
    assert refused.text == "" and refused.problems[0].code == "convert-unsayable"
    with pytest.raises(zeitbuch.ZeitbuchError, match=r"expected one of the formats yaml, json, bpmn"):
        zeitbuch.convert(letters, "nothing")
