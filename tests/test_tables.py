"""Vocabularies: every table of rows is held to the names it is for, and every row is exercised."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any, get_args

import openpyxl
import pytest

from builders import flow, link, step
from zeitbuch.app.explain import explain_flow
from zeitbuch.app.session import Session
from zeitbuch.core.assumptions.quantities import DEFAULTS, QUANTITIES, RENAMED
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.diff.change_types import CHANGE_KINDS, Topic
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import EFFECT_ROWS, MODALITY_ROWS, OUTCOME_ROWS, STEP_KINDS, TRIGGER_KINDS
from zeitbuch.core.model.records import Effect, Estate, Modality, Outcome, Schedule, StepKind, Trigger, TriggerKind
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import trigger_words
from zeitbuch.core.pricing.rate_card import Price
from zeitbuch.core.pricing.units import UNIT_ROWS, UnitName
from zeitbuch.core.report.presentations import TableResult, sheet_result
from zeitbuch.core.report.sentences import step_sentence, when_words
from zeitbuch.writers.exchange.native import to_json
from zeitbuch.writers.outputs.rendering import load_writer, render
from zeitbuch.writers.outputs.rows import OUTPUTS, OutputSubject, format_by_suffix
from zeitbuch.writers.table.workbook import CUT, LONGEST, to_workbook
from zeitbuch.writers.theme.look import EFFECTS


@pytest.mark.parametrize(
    ("names", "kind"),
    [
        ([row.kind for row in STEP_KINDS], StepKind),
        ([row.kind for row in TRIGGER_KINDS], TriggerKind),
        ([row.effect for row in EFFECT_ROWS], Effect),
        ([row.modality for row in MODALITY_ROWS], Modality),
        ([row.outcome for row in OUTCOME_ROWS], Outcome),
        ([row.unit for row in UNIT_ROWS], UnitName),
        (list({row.subject for row in OUTPUTS}), OutputSubject),
        (list({kind.topic for kind in CHANGE_KINDS.values()}), Topic),
        (list(EFFECTS), Effect),
    ],
)
def test_rows_are_the_names_and_each_once(names: list[str], kind: Any) -> None:
    assert len(names) == len(set(names)) and set(names) == set(get_args(kind))


def test_units_are_the_fields_of_a_price_and_their_quantities_can_be_declared() -> None:
    assert {row.unit for row in UNIT_ROWS} == set(Price.__struct_fields__) - {"since", "until", "deferred"}
    quantities = {row.quantity for row in UNIT_ROWS if row.quantity}
    assert quantities <= set(QUANTITIES) and quantities <= set(DEFAULTS)
    assert set(QUANTITIES) <= set(Rule.__struct_fields__)
    assert set(RENAMED.values()) <= set(QUANTITIES) and not set(RENAMED) & set(QUANTITIES)


def test_every_kind_of_step_goes_through_the_program(tmp_path: Path, run: Any) -> None:
    made = []
    for row in STEP_KINDS:
        steps, links = [step("s", row.kind), step("t", "read")], [link("start", "s"), link("s", "t")]
        made.append(flow(steps, links, id=row.kind, name=f"Flow {row.kind}"))
        page = explain_flow(Estate((made[-1],)), made[-1], "s").page
        assert step_sentence(Graph(made[-1]), made[-1].steps[0]) and row.words in str(page.blocks)
    path = tmp_path / "all.json"
    path.write_text(to_json(Estate(flows=tuple(made))))
    for words in (
        ["inventory"],
        ["map", "-o", "maps"],
        ["estimate"],
        ["document", "-o", "pages"],
        ["convert", "-o", "c.bpmn"],
    ):
        ran = run(words[0], str(path), *words[1:])
        assert ran.code == 0, ran.err
    again = run("diff", str(path), "c.bpmn")
    assert again.code == 0, again.out


@pytest.mark.parametrize("row", TRIGGER_KINDS, ids=lambda row: row.kind)
def test_every_kind_of_trigger_has_words(row: Any) -> None:
    plain, named = Trigger("t", kind=row.kind), Trigger("t", kind=row.kind, event="berth.{late}")
    assert trigger_words(plain) == row.words and when_words(plain) == row.start
    if row.words_with_event:
        assert "berth.{late}" in trigger_words(named) and "berth.{late}" in when_words(named)
    clocked = trigger_words(Trigger("t", kind=row.kind, schedule=Schedule(every=900.0)))
    assert ("every 15 minutes" in clocked) is row.is_clocked


# -- outputs ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("row", OUTPUTS, ids=lambda row: f"{row.subject}-{row.name}")
def test_every_output_has_its_writer_and_suffixes_name_one_format(row: Any) -> None:
    assert callable(load_writer(row))
    for suffix in row.suffixes:
        assert format_by_suffix(suffix, (row.subject,)) == row.name


TABLES = (
    ("inventory",), ("estimate",), ("estimate", "--steps"), ("estimate", "--by", "model"), ("estimate", "--drivers"),
    ("estimate", "--why", "Letters"), ("compare", "--scenario", "scenarios/small-model.toml"), ("compare", "--propose"),
    ("diff", "october", "november", "--summary"), ("history",), ("history", "Letters"), ("dialect", "list"),
    ("dialect", "test", "november"), ("list", "plugins"),
)  # fmt: skip


@pytest.mark.parametrize("words", TABLES, ids=" ".join)
def test_every_table_in_the_formats_for_machines(words: tuple[str, ...], demo: Path, run: Any) -> None:
    if words[0] == "history":
        assert run("record", "october", cwd=demo).code == 0
    rows: dict[str, int] = {}
    for name in ("csv", "jsonl", "xlsx"):  # the others are tried with each command
        ran = run(*words, "-f", name, "-o", f"out.{name}", cwd=demo)
        assert ran.code in (0, 1), ran.err
        raw = (demo / f"out.{name}").read_bytes()
        if name == "csv":
            rows[name] = len(list(csv.reader(io.StringIO(raw.decode("utf-8-sig"))))) - 1
        elif name == "jsonl":
            lines = [json.loads(line) for line in raw.decode().splitlines()]
            assert all(line.keys() == lines[0].keys() for line in lines)
            rows[name] = len(lines)
        elif name == "xlsx":
            page = openpyxl.load_workbook(io.BytesIO(raw))["table"]
            assert page.freeze_panes == "A2"
            rows[name] = page.max_row - 1
    assert rows["csv"] == rows["jsonl"] and rows["xlsx"] in (rows["csv"], rows["csv"] + 1)  # a total


def test_a_workbook_keeps_numbers_and_takes_no_formulas(tmp_path: Path) -> None:
    from decimal import Decimal

    columns = (Column("name", "flow"), Column("cost", "EUR", "money"), Column("share", "share", "percent"))
    names = ("=1+1", "@cmd", "x\x07y", "z" * 40_000)
    rows = tuple((name, Decimal("0.0021"), 0.25) for name in names)
    sheet = Sheet(columns, (*rows, ("unknown", None, None)), ("all", Decimal("1"), ""), notes=("=note",))
    raw = to_workbook(sheet)
    assert raw == to_workbook(sheet)
    book = openpyxl.load_workbook(io.BytesIO(raw))
    cells = list(book["table"].iter_rows(values_only=True))
    assert cells[1] == ("=1+1", 0.0021, 0.25) and cells[5] == ("unknown", "?", "?") and cells[6][:2] == ("all", 1)
    assert book["table"]["A2"].data_type == "s" and book["table"]["B2"].data_type == "n"
    assert len(cells[4][0]) == LONGEST and cells[4][0].endswith(CUT)
    assert book["notes"]["A1"].value == "=note" and book["notes"]["A1"].data_type == "s"


def test_render_says_which_formats_there_are() -> None:
    result = sheet_result(Sheet((Column("a", "A"),), (("x",),)))
    assert render("table", "jsonl", result) == '{"a":"x"}\n'
    with pytest.raises(Exception, match="expected one of the formats table, csv, json, jsonl, markdown, xlsx"):
        render("table", "png", result)
    assert isinstance(result, TableResult) and Session().problems == []
