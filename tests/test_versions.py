"""Matching and edits on random flows with known edit scripts, edits that are complete, and shares that add up."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import drawn_flows, flows
from conftest import draws
from scripts import made_flow, scripted
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.diff.change_cost import Costing, with_figures
from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.edits import apply_edits
from zeitbuch.core.diff.estate_changes import estate_changes, flow_changes
from zeitbuch.core.diff.flow_matching import match_flows
from zeitbuch.core.diff.matching import match_steps
from zeitbuch.core.model.canonical import canonical_form, map_ids
from zeitbuch.core.model.records import Estate, Flow

MANY = draws(36, 60)
DERIVED = ("rights widened", "rights narrowed")


def complete(old: Flow, new: Flow) -> None:
    """The old version with the reported edits is the new one."""
    ids = match_steps(old, new).ids()
    found = flow_changes(old, new)
    edits = [e for c in found.changes for e in c.edits] if found is not None else []
    assert canonical_form(apply_edits(old, edits, ids)) == canonical_form(new)
    if found is not None:
        # What the result says of ids is enough: nothing else is needed to carry it out.
        assert canonical_form(apply_edits(old, edits, structs.replace(found.ids, flows={}))) == canonical_form(new)


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.one_of(st.tuples(flows(), flows()), st.tuples(drawn_flows(), drawn_flows())))
def test_reported_edits_are_complete_between_any_two_flows(pair: tuple[Flow, Flow]) -> None:
    complete(pair[0], structs.replace(pair[1], id=pair[0].id))


# The measured figures on 500 flows each are in benchmarks/matching.py; the wanted ones stand here.
@pytest.mark.parametrize(("renewed", "names", "wanted"), [(False, 0.0, 0.97), (True, 0.0, 0.97), (True, 0.2, 0.92)])
def test_edit_scripts_are_found(renewed: bool, names: float, wanted: float) -> None:
    right = found = there = 0
    hit = said = true = 0
    for seed in range(MANY):
        old, new, effects, truth = scripted(seed, renewed, names)
        pairs = {p.old: p.new for p in match_steps(old, new).steps}
        right += sum(truth.get(a) == b for a, b in pairs.items())
        found += len(pairs)
        there += len(truth)
        one = flow_changes(old, new)
        reported = {(c.type, c.step) for c in one.changes if c.type not in DERIVED} if one is not None else set()
        hit += len(reported & effects)
        said += len(reported)
        true += len(effects)
        complete(old, new)
    assert right / found >= wanted and right / there >= wanted
    assert hit / said >= wanted and hit / true >= wanted


def test_a_flow_with_other_ids_everywhere_is_unchanged() -> None:
    for seed in range(20):
        old = made_flow(seed)
        ids = {s.id: f"w{i}" for i, s in enumerate(old.steps)}
        from zeitbuch.core.model.canonical import Ids

        assert flow_changes(old, structs.replace(map_ids(old, Ids(ids)), id="other")) is None


def test_a_change_alone_has_the_whole_difference_as_its_share() -> None:
    """Taking the one change back gives the figures of the old version: for every kind of edit."""
    seen: set[str] = set()
    for seed in range(160):
        old, new, effects, _ = scripted(seed)
        if len(effects) != 1:
            continue
        a, b = Estate((old,)), Estate((new,))
        matching = match_flows(a.flows, b.flows)
        sides = [Costing.of(e, None, Assumptions(), "2026-11") for e in (a, b)]
        found = with_figures(estate_changes(a, b, matching), *sides, matching)
        (flow,) = found.flows
        assert flow.before is not None and flow.after is not None and flow.interaction is not None
        change = next(c for c in flow.changes if c.edits)
        if change.share is None:
            assert not CHANGE_KINDS[change.type].cost
            continue
        seen.add(change.type)
        for name in ("passes", "calls", "tokens"):
            total = getattr(flow.after, name) - getattr(flow.before, name)
            assert getattr(change.share, name) == pytest.approx(total, abs=1e-6), (seed, change.type, name)
            assert getattr(flow.interaction, name) == pytest.approx(0, abs=1e-6)
    assert seen >= {"step added", "step removed", "step moved", "scope", "prompt", "model", "link rewired", "input"}
