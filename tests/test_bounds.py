"""Numbers that nobody means: every option, assumption and price refuses them, and none ends in a fault."""

from __future__ import annotations

import argparse
import json
import re
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal, get_args, get_origin, get_type_hints

import msgspec
import pytest
from msgspec import to_builtins

from builders import ask, chain
from conftest import Run
from test_outcomes import approval
from zeitbuch.cli.command_table import COMMANDS
from zeitbuch.cli.shared.numbers import BOUNDS, number_for
from zeitbuch.core.assumptions.quantities import QUANTITIES
from zeitbuch.core.pricing.rate_bounds import RATE_BOUNDS
from zeitbuch.core.pricing.rate_card import (
    Belongs,
    Exchange,
    Host,
    Meter,
    MeterPrice,
    ModelRate,
    Price,
    RateCard,
    Stair,
)
from zeitbuch.core.pricing.rate_validation import rate_problems

ODD = ("nan", "inf", "-inf", "-1", "1e300", "-1e300", "x", "")


@pytest.mark.parametrize("option", BOUNDS)
@pytest.mark.parametrize("text", ODD)
def test_numeric_options_refuse_what_is_beyond_their_bounds(option: str, text: str) -> None:
    with pytest.raises(argparse.ArgumentTypeError, match=re.escape(repr(text))):
        number_for(option)(text)
    bounds = BOUNDS[option]
    assert number_for(option)(str(int(bounds.most))) == bounds.most


def test_every_option_that_takes_a_number_has_bounds() -> None:
    """A number that is read without bounds would stand in the options as int or float."""
    folder = Path(__file__).parents[1] / "src" / "zeitbuch" / "cli" / "options"
    assert len(COMMANDS) > 10
    for path in folder.glob("*.py"):
        assert not re.search(r"type=(?:int|float)\b", path.read_text()), path.name


@pytest.fixture
def export(tmp_path: Path) -> Path:
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(approval())]}))
    return tmp_path / "flow.json"


@pytest.mark.parametrize("text", ["nan", "inf", "-1", "1e300"])
def test_a_budget_is_never_silently_off(export: Path, run: Run, text: str) -> None:
    for option in ("--max-per-month", "--max-per-run"):
        done = run("estimate", str(export), option, text, "--no-cache")
        assert done.code == 2 and f"argument {option}: expected a number from 0 to 1e+15, found '{text}'" in done.err


@pytest.mark.parametrize("quantity", QUANTITIES)
def test_assumptions_refuse_numbers_that_nobody_means(export: Path, run: Run, quantity: str) -> None:
    for text in ("nan", "inf", "-1", "1e300"):
        (export.parent / "odd.toml").write_text(f'[[assume]]\nflow = "*"\n{quantity} = {text}\n')
        done = run("estimate", str(export), "--assumptions", "odd.toml", "--no-cache")
        assert done.code not in (0, 70), (quantity, text, done.out)
        assert (quantity in done.err or "odd.toml:3" in done.err) and "fault" not in done.err, done.err


FLOW = """
zeitbuch: 1
flows:
- id: a
  name: A
  concurrency: {concurrency}
  triggers: [{{id: t, kind: schedule, batch: {batch}, schedule: {{every: {every}}}}}]
  steps:
  - {{id: l, kind: loop, name: l, concurrency: {rounds}, repeat: {{items: x, count: {count}, cap: {cap}}}}}
  - {{id: m, kind: agent, name: m, scope: l, timeout: {timeout}, retry: {{attempts: {attempts}, wait: {pause}}},
      model: {{name: x, max_turns: {turns}, max_output: {output}, temperature: {heat}, prompts: [{{text: hi}}]}}}}
  - {{id: e, kind: embed, name: e, scope: l, pieces: {{size: {size}, overlap: {overlap}, batch: {batched}, count: {found}}}, model: {{name: x}}}}
  - {{id: w, kind: wait, name: w, pause: {{seconds: {wait}}}}}
  - {{id: h, kind: tool, name: h}}
  links: [{{source: t, target: l}}, {{source: l, target: w}}, {{source: h, target: m, role: attach}}]
"""
GOOD = {
    "concurrency": 2, "batch": 3, "every": 3600, "rounds": 3, "count": 4, "cap": 5, "timeout": 30, "attempts": 2, "pause": 5, "turns": 4, "output": 100,
    "heat": 0.3, "size": 300, "overlap": 20, "batched": 3, "found": 4, "wait": 10,
}  # fmt: skip
RATES = """
rate_card = 1
currency = "EUR"
[[model]]
name = "x"
[[model.price]]
from = 2026-01-01
input = 3
output = 15
"""


@pytest.mark.parametrize("field", GOOD)
def test_numbers_of_flows_that_nobody_means_are_told_and_not_computed_with(
    field: str, tmp_path: Path, run: Run
) -> None:
    (tmp_path / "rates.toml").write_text(RATES)
    (tmp_path / "odd.toml").write_text('[[assume]]\nstep = "m"\nfailure = 0.1\n')
    for text in (".nan", ".inf", "-1", "1" + "0" * 40, "0"):
        (tmp_path / "flow.yaml").write_text(FLOW.format(**{**GOOD, field: text}))
        done = run(
            "estimate", "flow.yaml", "--rates", "rates.toml", "--assumptions", "odd.toml", "--no-cache", "-f", "json"
        )
        assert done.code in (0, 2) and "fault" not in done.err, (text, done.err)
        if text not in ("0", "-1"):  # which may be meant: a temperature, a cap
            assert "value-unusable" in done.err or "native-form" in done.err or "every" in done.err, (text, done.err)
        for flow in json.loads(done.out)["flows"]:
            assert 0 <= float(flow["cost"]["amount"]) < 1e9, (text, flow["cost"])
        told = run("explain", "A", "--source", "flow.yaml", "--no-cache")
        assert "fault" not in told.err, (text, told.err)


def test_a_number_that_is_not_used_counts_as_unread(tmp_path: Path, run: Run) -> None:
    (tmp_path / "flow.yaml").write_text(FLOW.format(**{**GOOD, "attempts": "1" + "0" * 40}))
    done = run("convert", "flow.yaml", "-f", "json", "--no-cache")
    (flow,) = json.loads(done.out)["flows"]
    agent = next(step for step in flow["steps"] if step["id"] == "m")
    assert "retry" not in agent
    assert agent["unread"] == {"retry.attempts": "10000000000000000000… (41 digits)"}
    assert (
        "expected retry.attempts of 'm' from 0 to 10,000, found 10000000000000000000… (41 digits), which is not used"
        in done.err
    )


# -- rate cards, scenarios, budgets -----------------------------------------------------------------------------------


def _numeric_fields() -> set[tuple[str, str]]:
    """Every field of a record of rate cards that holds a number."""
    found = set()
    for record in (Price, ModelRate, Exchange, Meter, MeterPrice, Stair, Host, Belongs, RateCard):
        for name, kind in get_type_hints(record).items():
            kinds = set(get_args(kind)) or {kind}
            if kinds & {Decimal, int, float} and get_origin(kind) is not Literal:
                found.add((record.__name__, name))
    return found


def test_every_number_of_a_rate_card_has_its_bounds() -> None:
    assert set(RATE_BOUNDS) == _numeric_fields()


def _card_with(kind: str, field: str, value: Any) -> RateCard:
    def made(record: Any, **given: Any) -> Any:
        return record(**{**given, **({field: value} if record.__name__ == kind else {})})

    day, one = date(2026, 1, 1), Decimal(1)
    stair = made(Stair, above=Decimal(10), each=one)
    meter = made(
        Meter, name="runs", counts="run", price=(made(MeterPrice, since=day, each=one, included=one, stair=(stair,)),)
    )
    model = made(ModelRate, name="m", price=(made(Price, since=day, input=one, output=one),))
    host = made(Host, name="h", meters=("runs",), flows=(Belongs(),))
    return RateCard(
        "EUR",
        exchange=(made(Exchange, currency="NOK", rate=one, since=day),),
        model=(model,),
        meter=(meter,),
        host=(host,),
    )


@pytest.mark.parametrize("value", ["nan", "inf", "-1", "1e300"])
@pytest.mark.parametrize(("kind", "field"), sorted(RATE_BOUNDS))
def test_numbers_of_a_rate_card_beyond_their_bounds_are_refused(kind: str, field: str, value: str) -> None:
    assert (
        rate_problems(_card_with(kind, field, RATE_BOUNDS[kind, field].most if field != "included" else Decimal(10)))
        == []
    )
    found = rate_problems(_card_with(kind, field, Decimal(value)))
    assert any(
        problem.code == "rate-negative" and problem.origin and problem.origin.pointer.endswith(f"/{field}")
        for problem in found
    )
    assert all(problem.severity == "error" for problem in found)


@pytest.mark.parametrize("value", ["nan", "inf", "-1", "1e300", "0"])
@pytest.mark.parametrize(
    "change",
    [
        'do="poll"\nevery={}', 'do="poll"\nhit_rate={}', 'do="setting"\nmax_output={}', 'do="setting"\nmax_turns={}', 'do="setting"\nretries={}',
        'do="admit"\nshare={}', 'do="batch"\nsize={}', 'do="cache"\nshare={}', 'do="defer"\nshare={}', 'do="assume"\nrule={{runs={}, trigger="*"}}',
    ],
)  # fmt: skip
def test_numbers_of_a_scenario_give_a_figure_or_a_message(change: str, value: str, tmp_path: Path, run: Run) -> None:
    (tmp_path / "f.json").write_text(json.dumps({"zeitbuch": 1, "flows": [to_builtins(chain(ask("a")))]}))
    (tmp_path / "s.toml").write_text('scenario = 1\nname = "s"\n[[change]]\n' + change.format(value) + "\n")
    done = run("compare", "f.json", "--scenario", "s.toml", "--month", "2026-11", "--no-cache")
    assert done.code in (0, 2) and "a fault of" not in done.err
    assert (done.code == 0) == (value == "0" and not any(key in change for key in ("every", "max_", "size"))), done.err
    assert done.code == 0 or "s.toml:" in done.err


@pytest.mark.parametrize("value", ["nan", "inf", "-1", "1e300"])
@pytest.mark.parametrize("key", ["max_per_run", "max_per_month"])
def test_a_budget_of_the_workspace_is_never_silently_off(key: str, value: str, tmp_path: Path, run: Run) -> None:
    (tmp_path / "zeitbuch.toml").write_text(f'sources = ["."]\n\n[[budget]]\n{key} = {value}\n')
    done = run("estimate", cwd=tmp_path)
    assert done.code == 2
    assert re.search("zeitbuch.toml:4: error: expected a (limit from 0 to 1e\\+15|finite number)", done.err), done.err
