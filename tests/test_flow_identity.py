"""Which flow is which in another version: by id and name where they agree, else by what flows say, with how sure that is."""

from __future__ import annotations

import json
import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import structs

from builders import ask, chain, step
from conftest import Run
from zeitbuch.core.diff.estate_changes import estate_changes, flow_changes
from zeitbuch.core.diff.flow_matching import FlowMatching, match_flows
from zeitbuch.core.diff.matching import match_steps
from zeitbuch.core.model.records import Estate, Flow

THINGS = ("Bread", "Gloves", "Snow", "Ropes", "Lamps", "Wood", "Maps", "Tea", "Boats", "Keys", "Letters", "Fines")
TASKS = (
    "Say how much {0} the huts need today.",
    "Match the lost {0} with its owner.",
    "Write to whoever ordered {0}.",
    "Count the {0} by colour.",
)


def made(number: int, thing: str, seed: int = 0, steps: int = 3) -> Flow:
    """A flow about one thing, by which alone its texts differ from those of others."""
    rng = random.Random(f"{thing}{seed}")
    first = step("a", rng.choice(["read", "http"]), name=f"Fetch {thing}")
    rest = [ask("b", rng.choice(TASKS).format(thing.lower())), step("c", "write", name=f"File {thing}")]
    return chain(first, *rest[: steps - 1], id=str(number), name=thing)


def pairs(matching: FlowMatching) -> set[tuple[str, str]]:
    return {(pair.old.name, pair.new.name) for pair in matching.pairs}


def renumbered(flows: Sequence[Flow]) -> list[Flow]:
    return [structs.replace(flow, id=str(number)) for number, flow in enumerate(flows, 1)]


def test_flows_numbered_anew_after_a_deletion_are_the_same_flows() -> None:
    old = renumbered([made(0, thing) for thing in THINGS])
    for gone in range(len(old)):
        new = renumbered([flow for place, flow in enumerate(old) if place != gone])
        matching = match_flows(old, new)
        assert pairs(matching) == {(f.name, f.name) for place, f in enumerate(old) if place != gone}
        assert [flow.name for flow in matching.removed] == [old[gone].name] and matching.added == ()
        found = estate_changes(Estate(tuple(old)), Estate(tuple(new)), matching)
        assert [(f.status, f.name) for f in found.flows] == [("removed", old[gone].name)]
        assert len(found.flows[0].changes) == 1  # no merge, no rename


@pytest.mark.parametrize("steps", [2, 3])
def test_a_flow_that_is_renamed_and_renumbered_is_no_merge(steps: int) -> None:
    old = renumbered([made(0, thing, steps=steps) for thing in THINGS[:4]])
    new = [structs.replace(old[2], id="9", name="Winter report"), old[0], old[1], old[3]]
    matching = match_flows(old, new)
    assert ("Snow", "Winter report") in pairs(matching)
    found = estate_changes(Estate(tuple(old)), Estate(tuple(new)), matching)
    assert [(f.name, [c.type for c in f.changes]) for f in found.flows] == [("Winter report", ["flow renamed"])]
    pair = next(pair for pair in matching.pairs if pair.new.id == "9")
    assert pair.by == "content" and 0.6 < pair.confidence < 1


def test_flows_that_exchange_their_names_stay_what_they_are() -> None:
    old = renumbered([made(0, thing) for thing in THINGS[:5]])
    new = [structs.replace(old[0], name=old[1].name), structs.replace(old[1], name=old[0].name), *old[2:]]
    matching = match_flows(old, new)
    assert pairs(matching) >= {("Bread", "Gloves"), ("Gloves", "Bread")}
    assert all(pair.by == "id" for pair in matching.pairs)


def test_an_id_that_holds_pairs_what_was_written_anew_but_says_that_it_is_not_sure() -> None:
    old = renumbered([made(0, thing) for thing in THINGS[:5]])
    other = chain(step("p", "wait"), step("q", "send", name="Send the plan"), id="1", name="Shift plan")
    matching = match_flows(old, [other, *old[1:]])
    pair = next(pair for pair in matching.pairs if pair.new.name == "Shift plan")
    assert (pair.old.name, pair.by) == ("Bread", "id") and pair.confidence < 0.5


def test_a_new_name_over_an_id_that_holds_is_told_as_that(tmp_path: Path, run: Run) -> None:
    """Copies are much like each other: the id tells which was renamed, and nothing is said that is not so."""
    copies = [structs.replace(made(1, "Bread"), id=str(number), name=f"Bread {number}") for number in range(4)]
    new = [structs.replace(copies[0], name="Loaves"), *copies[1:]]
    for name, flows in (("old", copies), ("new", new)):
        (tmp_path / f"{name}.json").write_text(json.dumps({"zeitbuch": 1, "flows": msgspec.to_builtins(flows)}))
    text = " ".join(run("diff", "old.json", "new.json").out.split())
    assert "Bread 0 → Loaves" in text and "little else" not in text and "1 flow changed, 3 unchanged" in text


def test_what_else_it_could_be_is_said(tmp_path: Path, run: Run) -> None:
    """A copy of the flow, and the flow itself renamed: both with ids of their own."""
    one = made(1, "Bread")
    copies = [structs.replace(one, id="7", name="Loaves"), structs.replace(one, id="8", name="Rolls")]
    (pair,) = match_flows([one], copies).pairs
    assert pair.confidence < 0.7 and {pair.new.name, pair.rival} == {"Loaves", "Rolls"}
    for name, flows in (("old", [one]), ("new", copies)):
        (tmp_path / f"{name}.json").write_text(json.dumps({"zeitbuch": 1, "flows": msgspec.to_builtins(flows)}))
    ran = run("diff", "old.json", "new.json")
    assert "it could also be ‘" in ran.out and "sure)" in ran.out


def test_ids_given_anew_are_told_once(tmp_path: Path, run: Run) -> None:
    old = renumbered([made(0, thing) for thing in THINGS[:6]])
    new = renumbered([structs.replace(flow, description="Now with words.") for flow in old[1:]])
    for name, flows in (("old", old), ("new", new)):
        (tmp_path / f"{name}.json").write_text(json.dumps({"zeitbuch": 1, "flows": msgspec.to_builtins(flows)}))
    ran = run("diff", "old.json", "new.json")
    text = " ".join(ran.out.split())
    assert text.count("The ids of 5 flows were given anew in new.json: they are matched by name and content.") == 1
    assert "has another id" not in text and "1 removed" in ran.out.splitlines()[0]
    body: dict[str, Any] = json.loads(run("diff", "old.json", "new.json", "--format", "json").out)
    assert body["renumbered"] == {"new.json": 5}


def scrambled(seed: int) -> tuple[list[Flow], list[Flow], set[tuple[int, int]]]:
    """An estate and its next version with several acts at once; which place of the old one is which of the new one."""
    rng = random.Random(seed)
    old = renumbered([made(0, thing, seed, rng.choice([2, 3, 3])) for thing in rng.sample(THINGS, rng.randint(4, 9))])
    new: list[tuple[int, Flow]] = list(enumerate(old))
    rng.shuffle(new)
    for _ in range(rng.randint(1, 3)):
        act, place = rng.choice(["delete", "rename", "add", "edit"]), rng.randrange(len(new))
        was, flow = new[place]
        match act:
            case "delete" if len(new) > 2:
                new.pop(place)
            case "rename":
                new[place] = was, structs.replace(flow, name=f"Service {rng.randint(10, 99)}")
            case "add":
                fresh = rng.choice(
                    [thing for thing in ("Skis", "Flags", "Bells") if all(f.name != thing for _, f in new)]
                )
                new.append((-1, made(900 + len(new), fresh, seed)))
            case "edit":
                more = step("x", "send", name="Tell the warden")
                new[place] = was, chain(*flow.steps, more, id=flow.id, name=flow.name)
    flows = [flow for _, flow in new]
    flows = renumbered(flows) if rng.random() < 0.6 else flows
    return old, flows, {(was, place) for place, (was, _) in enumerate(new) if was >= 0}


def test_several_acts_at_once_leave_no_wrong_identity_that_is_called_sure() -> None:
    right = said = sure = wrong = missed = 0
    for seed in range(300):
        old, new, true = scrambled(seed)
        before, after = ({id(flow): place for place, flow in enumerate(side)} for side in (old, new))
        found = {(before[id(pair.old)], after[id(pair.new)]): pair.confidence for pair in match_flows(old, new).pairs}
        for key, confidence in found.items():
            said, right = said + 1, right + (key in true)
            sure, wrong = sure + (confidence > 0.9), wrong + (confidence > 0.9 and key not in true)
        missed += len(true - found.keys())
    assert wrong == 0 and sure > 0.8 * said
    assert right >= 0.99 * said and missed <= 0.01 * said


def test_a_step_that_was_copied_keeps_its_identity_when_it_is_renamed() -> None:
    """The id holds; the copy has the old name under an id of its own."""
    old = chain(step("load", "read"), step("mail", "send", name="Send mail"), step("log", "write"))
    renamed = structs.replace(old.steps[1], name="Send mail to wardens")
    new = chain(old.steps[0], renamed, structs.replace(old.steps[1], id="copy"), old.steps[2])
    matching = match_steps(old, new)
    assert ("mail", "mail") in {(pair.old, pair.new) for pair in matching.steps}
    assert [one.id for one in matching.added] == ["copy"] and matching.removed == ()
    found = flow_changes(old, new)
    assert found is not None and {c.type for c in found.changes} >= {"step added", "step renamed"}
    # Numbers that were shifted by a step put before are another thing: there the names hold.
    shifted = chain(
        step("load", "wait", name="Pause"),
        structs.replace(old.steps[0], id="mail"),
        structs.replace(old.steps[1], id="log"),
        structs.replace(old.steps[2], id="last"),
    )
    assert {(p.old, p.new) for p in match_steps(old, shifted).steps} == {
        ("load", "mail"),
        ("mail", "log"),
        ("log", "last"),
    }
