"""Assumptions that fit nothing are told, and none that fits anything."""

from __future__ import annotations

import json
import re
from pathlib import Path

import msgspec
import pytest
from msgspec import structs

from builders import ask, chain, flow, link, step
from conftest import Run
from test_outcomes import approval
from zeitbuch.core.assumptions.idle_rules import idle_problems
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.shares import share_problems
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow
from zeitbuch.core.passes.exact import Passes

FLOWS = [approval()]


@pytest.mark.parametrize(
    ("rule", "message", "hint"),
    [
        (Rule(flow="Flaw", runs=3.0, trigger="*"), "expected a flow that 'Flaw' fits, found none", "did you mean 'Flow'?"),
        (Rule(flow="Flow", step="Okay", failure=0.1), "expected a step that 'Okay' fits in 'Flow', found none", "did you mean 'Ok'?"),
        (Rule(step="ok", case="aproved", share=0.1), "expected a case that 'aproved' fits at 'ok' in 'Flow', found none", "did you mean 'approved'?"),
        (Rule(trigger="begin", runs=3.0), "expected a trigger that 'begin' fits in 'Flow', found none", "correct it, or remove the rule"),
        (Rule(step="yes", case="approved", share=0.1), "expected a case that 'approved' fits at 'yes' in 'Flow', found none", "correct it"),
    ],
)  # fmt: skip
def test_rules_that_fit_nothing_are_told(rule: Rule, message: str, hint: str) -> None:
    (found,) = idle_problems(FLOWS, Assumptions(assume=(rule,)))
    assert (found.code, found.severity, found.message) == ("assume-nothing", "warning", message)
    assert found.hint.startswith(hint)


@pytest.mark.parametrize(
    "rule",
    [
        Rule(flow="*", runs=3.0, trigger="*"), Rule(flow="f", trigger="start", runs=1.0), Rule(step="O*", failure=0.1),
        Rule(step="ok", case="refused", share=0.1), Rule(case="no", share=0.2), Rule(placeholder="anything", size=3.0), Rule(output=3.0),
    ],
)  # fmt: skip
def test_rules_that_fit_are_not_told(rule: Rule) -> None:
    assert idle_problems(FLOWS, Assumptions(assume=(rule,))) == []


def test_titles_with_braces_are_names_like_others() -> None:
    odd = msgspec.structs.replace(approval(), name="A {b} 'c'")
    (found,) = idle_problems([odd], Assumptions(assume=(Rule(step="gone", failure=0.1),)))
    assert found.message == "expected a step that 'gone' fits in 'A {b} 'c'', found none"


def test_of_some_flows_alone_rules_for_others_are_no_mistake() -> None:
    rules = Assumptions(assume=(Rule(flow="Other", runs=3.0, trigger="*"), Rule(flow="Flow", step="gone", failure=0.1)))
    assert [problem.origin.pointer for problem in idle_problems(FLOWS, rules, whole=False) if problem.origin] == [
        "/assume/1"
    ]


def test_an_estimate_tells_them_with_their_lines(tmp_path: Path, run: Run) -> None:
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(approval())]}))
    (tmp_path / "odd.toml").write_text(
        '[[assume]]\nflow = "Flow"\ntrigger = "*"\nruns = 5\n\n[[assume]]\nstep = "Okay"\nfailure = 0.1\n'
    )
    done = run("estimate", "flow.json", "--assumptions", "odd.toml", "--no-cache")
    assert done.code == 0
    said = "odd.toml:6: warning: expected a step that 'Okay' fits in 'Flow', found none [assume-nothing]"
    assert said in done.err
    (tmp_path / "twice.toml").write_text(
        'name = "twice"\n[[change]]\ndo = "assume"\nrule = { trigger = "*", runs = 10 }\n'
    )
    for words in (("--scenario", "twice.toml"), ("--propose",)):
        done = run("compare", "flow.json", *words, "--assumptions", "odd.toml", "--no-cache")
        assert done.code == 0 and done.err.count(said) == 1, done.err


def test_the_demo_has_none(demo: Path, run: Run) -> None:
    done = run("estimate", cwd=demo)
    assert not {"assume-nothing", "assume-shares", "rate-nothing"} & set(re.findall(r"\[([a-z-]+)\]", done.err))


# -- events beside runs, shares that leave something out, rate cards --------------------------------------------------


def test_events_beside_runs_are_told() -> None:
    both = (Rule(trigger="start", events=50.0), Rule(flow="Flow", trigger="*", runs=100.0))
    (found,) = idle_problems(FLOWS, Assumptions(assume=both))
    assert found.message == "expected `events` of a trigger without `runs`, found both in 'Flow'"
    assert found.origin is not None and found.origin.pointer == "/assume/0"
    assert idle_problems(FLOWS, Assumptions(assume=(both[0], Rule(step="ok", failure=0.1)))) == []


def _decision(*cases: str) -> Flow:
    ways = [step(f"to {case}") for case in cases]
    links = [link("start", "d"), *(link("d", way.id, "case", case) for way, case in zip(ways, cases, strict=True))]
    return flow([step("d", "decide"), *ways], links)


def _shares(*given: float) -> tuple[Rule, ...]:
    return tuple(Rule(step="d", case=f"c{place}", share=share) for place, share in enumerate(given))


@pytest.mark.parametrize(
    ("given", "cases", "severity", "said"),
    [
        ((0.5, 0.3), 2, "warning", "0.2 of its passes take no case and end there"),
        ((0.5, 0.3), 3, "", ""),  # what is left goes to the third
        ((0.7, 0.7), 3, "error", "one case is taken each time"),
        ((0.333333, 0.333333, 0.333333), 3, "", ""),
        ((0.166667,) * 6, 6, "", ""),
        ((0.3333, 0.3333, 0.3333), 3, "warning", "0.0001 of its passes"),
        ((0.4,), 1, "", ""),  # the other way is to do nothing
    ],
)
def test_shares_that_are_not_one_are_told(given: tuple[float, ...], cases: int, severity: str, said: str) -> None:
    made = _decision(*(f"c{place}" for place in range(cases)))
    found = share_problems([made], Assumptions(assume=_shares(*given)))
    assert [problem.severity for problem in found] == ([severity] if severity else [])
    assert all(said in problem.hint for problem in found)


@pytest.mark.parametrize("given", [(0.166667,) * 6, (0.333333,) * 3])
def test_shares_that_are_one_but_for_rounding_lose_nothing(given: tuple[float, ...]) -> None:
    made = _decision(*(f"c{place}" for place in range(len(given))))
    passes = Passes(Graph(made), AssumptionLookup(Assumptions(assume=_shares(*given)), made))
    assert sum(passes.of[f"to c{place}"].runs for place in range(len(given))) == pytest.approx(1, abs=1e-12)
    assert passes.notes == []


RATES = """rate_card = 1
currency = "EUR"
[[model]]
name = "fulmar-mini-2"
[[model.price]]
from = 2020-01-01
input = 1.0
output = 1.0
[[host]]
name = "Quay"
[[host.flows]]
flow = "Flaw"
[[host.flows]]
flow = "Flow"
from = 2099-01-01
"""


def test_entries_of_a_rate_card_that_fit_nothing_are_told_with_their_lines(tmp_path: Path, run: Run) -> None:
    made = flow([ask("a", name="fulmar-mini2"), ask("b", name="elsewhere-7")], [link("start", "a"), link("a", "b")])
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}))
    (tmp_path / "rates.toml").write_text(RATES)
    done = run("estimate", "flow.json", "--rates", "rates.toml", "--month", "2026-11", "--no-cache")
    assert done.code == 0
    told = [line for line in done.err.splitlines() if "warning" in line]
    assert told == [
        "rates.toml:11: warning: expected a flow that runs on host 'Quay' (flow 'Flaw'), found none [rate-nothing]",
        "rates.toml:3: warning: expected a price for the model 'fulmar-mini2' of 1 step, found none [rate-nothing]",
    ]
    assert "did you mean flow 'Flow'?" in done.err and "if it is 'fulmar-mini-2'" in done.err


def test_changes_of_a_scenario_that_fit_nothing_are_told_with_the_nearest_name(tmp_path: Path, run: Run) -> None:
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(approval())]}))
    (tmp_path / "what.toml").write_text(
        'scenario = 1\nname = "what if"\n\n[[change]]\ndo = "setting"\nflow = "Flaw"\nretries = 2\n\n[[change]]\ndo = "assume"\nflow = "Flow"\n'
        'rule = {step = "Okay", failure = 0.1}\n\n[[change]]\ndo = "assume"\nrule = {step = "ok", failure = 0.1}\n'
    )
    done = run("compare", "flow.json", "--scenario", "what.toml", "--month", "2026-11", "--no-cache")
    assert done.code == 0, done.err
    assert (
        "what.toml:4: warning: scenario 'what if': change 1: expected a flow that 'Flaw' fits, found none [scenario-nothing]"
        in done.err
    )
    assert (
        "what.toml:9: warning: scenario 'what if': change 2: expected a step that 'Okay' fits in 'Flow', found none [scenario-nothing]"
        in done.err
    )
    assert (
        done.err.count("scenario-nothing") == 2
        and "did you mean 'Flow'?" in done.err
        and "did you mean 'Ok'?" in done.err
    )


def test_a_rule_for_an_environment_is_for_its_flows_alone() -> None:
    prod = structs.replace(chain(step("a", "loop"), id="p", name="P"), environment="production")
    test = structs.replace(prod, id="t", name="T", environment="test")
    rules = (Rule(step="a", items=7.0), Rule(environment="prod*", step="a", items=3.0))

    def items(flow: Flow) -> float:
        found = AssumptionLookup(Assumptions(assume=rules), flow).find("items", ("a", "A"))
        return found.amount if found is not None else 0.0

    assert (items(prod), items(test)) == (3, 7)
    (said,) = idle_problems([prod, test], Assumptions(assume=(Rule(environment="productoin", step="a", items=3.0),)))
    assert said.message == "expected a flow of an environment that 'productoin' fits, found none"
    assert said.hint == "did you mean 'production'?"
