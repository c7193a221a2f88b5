"""Flows that rest as bytes are the flows they were, and every answer about them is the same."""

from __future__ import annotations

import itertools
import pickle
from collections.abc import Sequence
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import chain, drawn_flows, step
from conftest import ESTATE, read
from zeitbuch.app import parallel_work
from zeitbuch.app.basis import load_basis
from zeitbuch.cli.main import main
from zeitbuch.core.assumptions.idle_rules import idle_problems
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.checks.registry import check_flows
from zeitbuch.core.estimate.records import Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows
from zeitbuch.core.model import resting_flows
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Flow, Variable
from zeitbuch.core.model.resting_flows import RestingFlows, resting_if_many


def resting(flows: Sequence[Flow]) -> RestingFlows:
    made = resting_if_many(flows, 0)
    assert isinstance(made, RestingFlows)
    return made


@pytest.fixture(scope="module")
def flows() -> tuple[Flow, ...]:
    return tuple(read(ESTATE, "november", "faults").flows)


@given(drawn=st.lists(drawn_flows(), min_size=1, max_size=6), block=st.sampled_from([1, 300, 4_000_000]))
def test_a_flow_that_rested_is_the_flow_it_was(drawn: list[Flow], block: int) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(resting_flows, "_BLOCK", block)
        made = resting(drawn)
    assert len(made) == len(drawn) and list(made) == drawn and list(reversed(made)) == drawn[::-1]
    assert [fingerprint(one) for one in made] == [fingerprint(one) for one in drawn]
    assert made[-1] == drawn[-1] and made[:2] == drawn[:2] and made[1:] == drawn[1:]
    with pytest.raises(IndexError):
        made[len(drawn)]


def test_a_flow_that_has_no_bytes_stays_as_it_is() -> None:
    odd = chain(step("a"), variables=(Variable(name="far", value=2**80),))
    flows = [chain(step("b")), odd, chain(step("c"))]
    assert list(resting(flows)) == flows


def test_resting_flows_travel_to_other_machines() -> None:
    flows = [chain(step("a")), chain(step("b"), variables=(Variable(name="far", value=2**80),))]
    assert list(pickle.loads(pickle.dumps(resting(flows)))) == flows


def test_few_flows_stay_awake() -> None:
    flows = [chain(step("a")), chain(step("b"))]
    assert resting_if_many(flows, 2) == tuple(flows)
    assert isinstance(resting_if_many(flows, 1), RestingFlows) and resting_if_many([], 0) == ()


def test_checks_find_the_same_in_flows_that_rest(flows: tuple[Flow, ...]) -> None:
    found = check_flows(flows)
    assert len(found) > 20 and check_flows(resting(flows)) == found


@pytest.mark.parametrize("how", [None, Sampling(200)])
def test_estimates_are_the_same_of_flows_that_rest(flows: tuple[Flow, ...], how: Sampling | None) -> None:
    basis = load_basis(str(ESTATE / "rates.toml"), str(ESTATE / "assumptions.toml"), "2026-11")
    split = Rule(flow="letters", runs=3000, since=date(2026, 11, 11))
    for assumed in (basis.assumptions, Assumptions(assume=(*basis.assumptions.assume, split))):
        made = [estimate_flows(given, basis.card, assumed, "2026-11", how, True) for given in (flows, resting(flows))]
        assert made[0] == made[1] and made[0].total.calls_month > 0


def test_rules_that_fit_nothing_are_the_same_for_flows_that_rest(flows: tuple[Flow, ...]) -> None:
    names = ("*", "letters", "lettres", "Customer*")
    rules = [Rule(flow=flow, step=step, runs=3) for flow, step in itertools.product(names, ("", "Desk", "Desc"))]
    found = idle_problems(flows, Assumptions(assume=tuple(rules)))
    assert len(found) > 3 and idle_problems(resting(flows), Assumptions(assume=tuple(rules))) == found


@pytest.mark.parametrize(
    "words", [["check", "faults"], ["check"], ["estimate"], ["estimate", "--runs", "0", "--steps"], ["estimate", "--by", "owner"]]
)  # fmt: skip
@pytest.mark.parametrize("fewest", [1, 10_000])
def test_commands_say_the_same_of_flows_that_rest(
    words: list[str], fewest: int, demo: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(demo)
    monkeypatch.setenv("XDG_CACHE_HOME", str(demo / "cache"))
    monkeypatch.setattr(parallel_work, "FEWEST", fewest)
    said = []
    for most in (1_000, 2):
        monkeypatch.setattr(resting_flows, "MOST_AWAKE", most)
        main([*words, "-f", "json", "--quiet"])
        said.append(capsys.readouterr().out)
    assert said[0] == said[1] and len(said[0]) > 1_000


def test_a_flow_without_a_name_is_not_what_steps_call_that_call_nothing() -> None:
    unnamed = chain(step("a"), id="other", name="", state="off")
    caller = chain(step("b"), step("c", kind="subflow"), id="caller", name="Caller", state="on")
    assert not [one for one in check_flows([unnamed, caller]) if "switched off" in one.message]
