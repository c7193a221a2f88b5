"""Steps with outcomes, whatever they are: approvals, models and calls whose links are cases."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import structs

from builders import ask, flow, link, step
from conftest import Run
from test_estimate import CARD
from test_sampled import both
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.shares import share_problems
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.diff.reverting import revert_change
from zeitbuch.core.estimate.estate import estimate_exactly, runs_of
from zeitbuch.core.estimate.knobs import find_knobs
from zeitbuch.core.estimate.proposals import find_proposals
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import case_name, deciding_steps
from zeitbuch.core.model.records import Binding, Estate, Flow, Ref
from zeitbuch.core.report.sentences import cases_of

APPROVED = [link("start", "ok"), link("ok", "yes", "case", "approved"), link("ok", "no", "case", "refused")]


def approval(kind: Any = "approve", **more: Any) -> Flow:
    return flow([step("ok", kind, **more), ask("yes"), ask("no")], APPROVED)


@pytest.mark.parametrize("kind", ["approve", "model", "http", "agent", "subflow", "wait", "guard", "decide"])
def test_one_way_is_taken_whatever_the_step_is(kind: Any) -> None:
    exact, sample = both(approval(kind), [Rule(step="ok", case="approved", share=0.9)], 8000)
    assert exact.exact
    assert (exact.of["yes"].runs, exact.of["no"].runs) == pytest.approx((0.9, 0.1))
    assert float(sample.of["yes"].runs.mean()) == pytest.approx(0.9, abs=0.02)
    assert float((sample.of["yes"].runs + sample.of["no"].runs).max()) == 1


def test_branches_of_a_parallel_block_are_no_outcomes() -> None:
    blocks = [step("p", "parallel"), step("a", scope="p"), step("b", scope="p")]
    links = [link("start", "p"), link("p", "a", "case", "left"), link("p", "b", "case", "right")]
    assert deciding_steps(flow(blocks, links)) == frozenset()
    loop = [step("l", "loop"), step("a", scope="l"), step("b", scope="a")]
    assert deciding_steps(flow(loop, [link("start", "l"), link("l", "b", "case", "first")])) == frozenset()


def test_what_is_no_case_goes_on_beside_the_case() -> None:
    """An approval with two cases, and a step that is told in any case; both meet again."""
    steps = [step("ok", "approve"), step("yes"), step("no"), step("log"), step("end", "join")]
    links = [*APPROVED, link("ok", "log"), link("yes", "end"), link("log", "end")]
    exact, sample = both(flow(steps, links), [Rule(step="ok", case="approved", share=0.25)], 8000)
    assert exact.of["log"].runs == 1
    assert exact.exact and exact.of["end"].runs == pytest.approx(0.25)
    assert float(sample.of["end"].runs.mean()) == pytest.approx(0.25, abs=0.02)


def test_links_of_one_label_are_one_case() -> None:
    steps = [step("d", "decide"), step("a"), step("b"), step("c"), step("j", "join")]
    links = [
        link("start", "d"), link("d", "a", "case", "yes"), link("d", "b", "case", "yes"), link("d", "c", "case", "no"),
        link("a", "j"), link("b", "j"),
    ]  # fmt: skip
    made = flow(steps, links)
    exact, sample = both(made, [Rule(step="d", case="yes", share=0.6), Rule(step="a", failure=0.5)], 16_000)
    assert {key: round(exact.of[key].runs, 9) for key in "abcj"} == {"a": 0.6, "b": 0.6, "c": 0.4, "j": 0.3}
    assert exact.exact
    assert float(sample.of["j"].runs.mean()) == pytest.approx(0.3, abs=0.012)
    assert float((sample.of["b"].runs + sample.of["c"].runs).max()) == 1
    # Their shares are counted once: 0.6 and 0.4 are no more than 1.
    rules = (Rule(step="d", case="yes", share=0.6), Rule(step="d", case="no", share=0.4))
    assert share_problems([made], Assumptions(assume=rules)) == []
    rules = (Rule(step="d", case="yes", share=0.7), Rule(step="d", case="no", share=0.4))
    assert [problem.code for problem in share_problems([made], Assumptions(assume=rules))] == ["assume-shares"]


def test_cases_are_told_apart_by_label_condition_or_where_they_lead() -> None:
    assert [case_name(one) for one in (link("a", "b", "case", "x"), link("a", "b", "case", condition="1 > 0"), link("a", "b", "case"))] == [
        "x", "1 > 0", "to b",
    ]  # fmt: skip


def test_documents_and_lists_show_the_cases() -> None:
    graph = Graph(approval())
    assert [label for label, _, _ in cases_of(graph, graph.steps["ok"])] == ["approved", "refused"]
    assert cases_of(graph, graph.steps["yes"]) == []


@pytest.fixture
def export(tmp_path: Path) -> Path:
    made = approval()
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}))
    return tmp_path / "flow.json"


def test_a_story_follows_the_outcome(export: Path, run: Run) -> None:
    told = run("explain", "Flow", "--source", str(export), "--case", "refused")
    assert told.code == 0, told.err
    assert "It takes ‘refused’ and goes on to 3 ‘No’." in told.out
    assert "Not run: 2 Yes." in told.out
    lost = run("explain", "Flow", "--source", str(export), "--case", "perhaps")
    assert lost.code != 0 and "Ok: approved, refused" in lost.err


def test_an_estimate_splits_the_runs(export: Path, run: Run) -> None:
    (export.parent / "shares.toml").write_text('[[assume]]\nstep = "ok"\ncase = "approved"\nshare = 0.75\n')
    for more, wanted in ((), (0.5, 0.5)), (("--assumptions", "shares.toml"), (0.75, 0.25)):
        shown = run("estimate", str(export), "--steps", "-f", "json", "--no-cache", *more)
        assert shown.code == 0, shown.err
        passes = {row["id"]: row["passes"] for row in json.loads(shown.out)["flows"][0]["steps"]}
        assert (passes["yes"], passes["no"]) == pytest.approx(wanted)


def test_the_ways_of_one_case_have_one_share_in_drivers_and_proposals() -> None:
    """Two steps behind "no": its share is moved once, and what it leaves unused is counted once."""
    decide = step("d", "decide", condition="amount > 10", refs=(Ref(step="start", path="amount"),))
    reads = step("r", "store", inputs=(Binding(name="x", value="<x>", refs=(Ref(step="c", text="<x>"),)),))
    cases = [link("d", "r", "case", "yes"), link("d", "drop", "case", "no"), link("d", "tell", "case", "no")]
    f = flow(
        [ask("c", "A long text about a ship"), decide, reads, step("drop", "end"), step("tell", "message")],
        [link("start", "c"), link("c", "d"), *cases],
        id="f",
    )
    assumed = Assumptions(assume=(Rule(trigger="start", runs=1000.0), Rule(step="d", case="no", share=0.75)))
    runs = runs_of(Estate(flows=(f,)), CARD, assumed, "2026-02")
    shares = [knob.what for knob in find_knobs(runs.by["f"], month=False) if knob.quantity == "share"]
    assert shares == ["share of ‘yes’ at ‘D’"]
    found = find_proposals(Estate(flows=(f,)), CARD, assumed, "2026-02")
    proposal = next(p for p in found if "before the paid call" in p.title)
    spent = estimate_exactly(Estate(flows=(f,)), CARD, assumed, "2026-02").flows[0].steps[0].cost.amount * 1000
    assert float(proposal.saving) == pytest.approx(0.75 * float(spent))


def changes(old: Flow, new: Flow) -> list[tuple[str, str, str, str]]:
    found = flow_changes(old, new)
    return [(c.type, c.where, c.old, c.new) for c in found.changes] if found is not None else []


def test_a_step_that_loses_its_outcomes_is_one_change_that_asks_for_a_look() -> None:
    both_ways = [structs.replace(one, role="next", label="") for one in APPROVED]
    old, new = approval(), flow(list(approval().steps), both_ways)
    at_once = "on to ‘Yes’ and ‘No’ at once"
    assert changes(old, new) == [("outcomes", "‘Ok’", "one of approved, refused", at_once)]
    assert changes(new, old) == [("outcomes", "‘Ok’", at_once, "one of approved, refused")]
    found = flow_changes(old, new)
    assert found is not None
    (change,) = found.changes
    assert change.weight == "risk"
    back = revert_change(old, new, change)
    assert back is not None and sorted(back.links, key=str) == sorted(old.links, key=str)
    # Another label of a case is another case and no more.
    other = [structs.replace(one, label="declined") if one.label == "refused" else one for one in APPROVED]
    assert changes(old, flow(list(old.steps), other)) == [("approval outcome", "‘Ok’ to ‘No’", "refused", "declined")]
