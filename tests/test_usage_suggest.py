"""Mappings proposed for layouts that nobody has described: right, or asked; never wrong in silence."""

from __future__ import annotations

import json
import random
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

import usage_worlds
from conftest import Run, draws
from usage_worlds import draw_world, simulate, write_log
from zeitbuch.app.usage_suggest import suggest_mapping
from zeitbuch.core.actuals.usage_mapping import ColumnRule, UsageMapping, mapping_faults
from zeitbuch.core.model.records import Estate
from zeitbuch.readers.usage.mapping_proposal import proposal_text
from zeitbuch.readers.usage.usage_log import read_usage
from zeitbuch.readers.usage.value_forms import number_form, time_form

# Heads of tables in other words than those of the reader's list, as people write them.
HEADS: dict[str, tuple[str, ...]] = {
    "time": (
        "Startzeit",
        "Started (UTC)",
        "Fecha y hora",
        "Date/heure",
        "createdAt",
        "event_time",
        "Tidspunkt",
        "Log Time",
    ),
    "flow": (
        "Workflow Name",
        "Automatisierung",
        "Nombre del flujo",
        "Nom du flux",
        "flowTitle",
        "Arbeitsablauf",
        "process_name",
    ),
    "run": ("Run ID", "Lauf-Nr.", "ID de ejecución", "execution_id", "runId", "Vorgangsnummer"),
    "step": ("Step name", "Arbeitsschritt", "Paso", "Étape", "node_id", "Aktivität"),
    "model": ("Model Name", "Sprachmodell", "Modelo usado", "Modèle", "llm_model", "Engine used"),
    "tokens_in": ("Input tokens", "Prompt Tokens", "Eingabe-Token", "Tokens de entrada", "inputTokens", "tokens_in"),
    "tokens_out": (
        "Output tokens",
        "Completion Tokens",
        "Ausgabe-Token",
        "Tokens de salida",
        "outputTokens",
        "tokens_out",
    ),
    "cost": ("Cost", "Kosten (EUR)", "Coste", "Coût", "total_cost", "Betrag", "Amount EUR"),
    "environment": ("Environment", "Umgebung", "Entorno", "env", "deployment stage"),
    "host": ("Host", "Mandant", "tenant_id", "Account", "Server"),
}
MATTER = ("time", "flow", "step", "model", "tokens_in", "tokens_out", "cost")


def drawn(seed: int, folder: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[Any, Path, UsageMapping, random.Random]:
    rng = random.Random(f"layout {seed}")
    world = draw_world(rng)
    simulate(world, rng)
    monkeypatch.setattr(usage_worlds, "HEADS", HEADS)
    path, truth = write_log(world, folder, rng)
    return world, path, truth, rng


@pytest.mark.parametrize("with_estate", [True, False])
def test_forty_layouts_are_right_or_asked(with_estate: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    counted: Counter[str] = Counter()
    for seed in range(draws(12, 40)):
        world, path, truth, _ = drawn(seed, tmp_path, monkeypatch)
        estate = world.basis.estate if with_estate else Estate(flows=())
        made = suggest_mapping(str(path), estate, world.basis.card if with_estate else None)
        asked = {question.id for question in made.questions}
        for name in MATTER:
            found, wanted = made.mapping.rule_of(name), truth.rule_of(name)
            assert wanted is not None
            if found is not None and found.column == wanted.column and found.format == wanted.format:
                counted["right"] += 1
            elif found is None:
                counted["asked" if {f"column {wanted.column}", "dates", "decimal"} & asked else "missed"] += 1
            else:
                counted[f"wrong {name}"] += 1
        utc = "UTC" in (truth.rule_of("time") or ColumnRule()).column
        assert made.mapping.zone == ("UTC" if utc else "") and ("zone" in asked) != utc
        euro = "EUR" in (truth.rule_of("cost") or ColumnRule()).column
        cost = made.mapping.rule_of("cost")
        assert made.mapping.currency == ("EUR" if euro and cost else "") and (
            euro or cost is None or "currency" in asked
        )
        if path.suffix == ".csv" and "decimal" not in asked and cost is not None:
            assert made.mapping.decimal == truth.decimal
            assert made.mapping.thousands in (truth.thousands, "") or not truth.thousands
            assert (made.mapping.separator, made.mapping.skip) == (truth.separator, truth.skip)
    total = counted.total()
    assert not [key for key in counted if key.startswith("wrong")], counted
    assert counted["right"] / total >= 0.9, counted


def test_a_proposal_reads_the_log_once_its_questions_are_answered(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for seed in range(draws(6, 30)):
        world, path, truth, _ = drawn(seed, tmp_path, monkeypatch)
        order = str((truth.rule_of("time") or ColumnRule()).format)
        known = {"zone": "Europe/Oslo", "currency": "EUR", "decimal": truth.decimal, "dates": order, "line": "call"}

        def answer(made: Any, known: dict[str, str] = known, truth: UsageMapping = truth) -> dict[str, str]:
            columns = {rule.column: name for name in truth.column if (rule := truth.rule_of(name)) is not None}
            return {
                one.id: known.get(one.id)
                or (
                    word
                    if (word := columns.get(one.id.removeprefix("column "), "")) == one.answers[0][0]
                    else "nothing"
                )
                for one in made.questions
            }

        made = suggest_mapping(str(path), world.basis.estate, world.basis.card, answer)
        assert not made.questions and not mapping_faults(made.mapping)
        found = read_usage([str(path)], made.mapping)
        assert not found.problems, found.problems[:2]
        assert sum(one.cost for one in found.sums if one.cost is not None) == world.cost, proposal_text(made)


@pytest.mark.parametrize(
    ("values", "form"),
    [
        (["2026-11-01 08:00:00", "2026-11-02 09:00:00"], ("iso", True, False, "")),
        (["2026-11-01T08:00:00Z", "2026-11-02T09:00:00+01:00"], ("iso", True, True, "")),
        (["2026-11-01"], ("iso", False, False, "")),
        (["01.02.2026", "03.04.2026"], ("%d.%m.%Y", False, False, "")),
        (["01/02/2026 10:00", "03/04/2026 11:00"], ("%d/%m/%Y %H:%M", True, False, "%m/%d/%Y %H:%M")),
        (["01/22/2026 10:00", "03/04/2026 11:00"], ("%m/%d/%Y %H:%M", True, False, "")),
        (["13/02/26"], ("%d/%m/%y", False, False, "")),
        (["02/13/2026 03:05 PM"], ("%m/%d/%Y %I:%M %p", True, False, "")),
        (["1793520000"], ("seconds", True, True, "")),
        (["1793520000000"], ("milliseconds", True, True, "")),
    ],
)
def test_forms_of_times(values: list[str], form: tuple[str, bool, bool, str]) -> None:
    found = time_form(values)
    assert (found.form, found.clock, found.zoned, found.other) == form


@pytest.mark.parametrize(
    ("values", "decimal", "thousands", "ambiguous"),
    [
        (["1.5", "12.25"], ".", "", False),
        (["1,5", "12,25"], ",", "", False),
        (["1.234,5", "0,25"], ",", ".", False),
        (["1,234.5", "0.25"], ".", ",", False),
        (["1.234", "2.345"], "", "", True),
        (["12", "7"], "", "", False),
        (["1'234.50"], ".", "'", False),
        (["0.001", "0.002"], ".", "", False),
    ],
)
def test_forms_of_numbers(values: list[str], decimal: str, thousands: str, ambiguous: bool) -> None:
    found = number_form(values)
    assert (found.decimal, found.thousands, found.ambiguous) == (decimal, thousands, ambiguous)


@pytest.mark.parametrize(
    ("head", "times"),
    [("Tokens in (k)", 1000), ("Tokens in (Tsd.)", 1000), ("Tokens in (Mio)", 1_000_000), ("tokens in", 1)],
)
def test_units_in_heads(head: str, times: float, tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    rows = "".join(f"2026-11-01T08:00:{n:02d}Z,Fares,mini,{n}.25,0.5\n" for n in range(30))
    path.write_text(f"time,workflow,model,{head},cost eur\n{rows}")
    rule = suggest_mapping(str(path), Estate(flows=()), None).mapping.rule_of("tokens_in")
    assert rule is not None and rule.times == times


def test_columns_that_contradict_each_other_are_asked(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_text(
        "time;workflow;input tokens;cost eur\n"
        + "".join(f"2026-11-01T08:00:{n:02d}Z;Fares;{n}.5;0,{n}1\n" for n in range(1, 30))
    )
    made = suggest_mapping(str(path), Estate(flows=()), None)
    assert "decimal" in {one.id for one in made.questions} and not {"tokens_in", "cost"} & set(made.mapping.column)


def test_the_command_with_answers(demo: Path, run: Run) -> None:
    ran = run("usage", "suggest", "usage/boathouse.parquet", "-o", "usage/new.toml", cwd=demo)
    assert ran.code == 0 and "question" in ran.err
    (demo / "answers.toml").write_text('[answers]\nzone = "Europe/Oslo"\ncurrency = "NOK"\n"column ended" = "status"\n')
    again = run(
        "usage", "suggest", "usage/boathouse.parquet", "-o", "usage/new.toml", "--answers", "answers.toml", cwd=demo
    )
    assert again.code == 0 and "left open" not in again.err, again.err
    tried = json.loads(run("usage", "test", "--mapping", "usage/new.toml", "--format", "json", cwd=demo).out)
    assert "239.08 NOK" in [column["total"] for column in tried["logs"][0]["columns"]]
    (demo / "answers.toml").write_text('[answers]\nzone = "Moon"\n')
    assert (
        "expected 1 (Europe/Oslo)"
        in run("usage", "suggest", "usage/boathouse.parquet", "--answers", "answers.toml", cwd=demo).err
    )
    (demo / "answers.toml").write_text('[answers]\nwhale = "1"\n')
    assert (
        "found one to 'whale'"
        in run("usage", "suggest", "usage/boathouse.parquet", "--answers", "answers.toml", cwd=demo).err
    )
    (demo / "empty.csv").write_text("")
    for name in ("empty.csv", "none.csv", "zeitbuch.toml"):
        assert run("usage", "suggest", name, cwd=demo).code == 2


def test_values_shown_with_a_question_are_whole(run: Run, tmp_path: Path) -> None:
    times = [f"2026-11-{day:02} 14:02:09" for day in range(1, 20)]
    rows = [f"{time},harbour,r{at},fulmar-mini-2,{100 + at},{20 + at}" for at, time in enumerate(times)]
    log = tmp_path / "log.csv"
    log.write_text("\n".join(["at,flow,run,model,tokens_in,tokens_out", *rows]))
    said = run("usage", "suggest", str(log)).out
    shown = [line.removeprefix("#   values: ") for line in said.splitlines() if line.startswith("#   values: ")]
    assert shown and all(value in (*times, "…") for value in shown[0].split(", "))
    assert shown[0].endswith(", …")
