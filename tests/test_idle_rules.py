"""Assumptions that fit nothing are told, and none that fits anything."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest

from conftest import Run
from test_outcomes import approval
from zeitbuch.core.assumptions.idle_rules import idle_problems
from zeitbuch.core.assumptions.rules import Assumptions, Rule

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
    assert "odd.toml:6: warning: expected a step that 'Okay' fits in 'Flow', found none [assume-nothing]" in done.err


def test_the_demo_has_none(demo: Path, run: Run) -> None:
    done = run("estimate", cwd=demo)
    assert "assume-nothing" not in done.err
