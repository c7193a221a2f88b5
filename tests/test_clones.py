"""Copies in groups, what was forgotten in them however it is written, and the words by which flows hand work to each other."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from msgspec import structs

from builders import drawn_flows
from conftest import Run
from test_diff import ask, chain, step
from zeitbuch.core.diff.clones import detect_clones, group_title
from zeitbuch.core.diff.parts_of_flow import branches_of
from zeitbuch.core.graph.exchanged_words import exchanged_words
from zeitbuch.core.model.records import Binding, Flow, Link, Schedule, Step, Trigger

TEXT = "You sort the letters of {} by ship and by matter, name the desk that answers, and never answer them yourself in any case."


def desk(port: str, key: str, **inputs: str) -> Flow:
    """A flow of one port, as it is copied from port to port."""
    given = {
        "to": f"desk_{port.lower()}@ferry.example",
        "table": f"letters_{port.lower()}",
        "head": f"Letters of {port}",
        **inputs,
    }
    return chain(
        step("r", "read", name=f"Read {port}", inputs=(Binding(name="table", value=f"letters_{port.lower()}"), Binding(name="from", value=f"{port} box"))),
        structs.replace(ask("m", TEXT.format(port)), name=f"Sort for {port}"),
        step("s", "send", name=f"Tell {port}", inputs=tuple(Binding(name=name, value=value) for name, value in given.items())),
        step("w", "write", name="Log", inputs=(Binding(name="row", value="letters"), Binding(name="kind", value="sorted"))),
        id=key,
        name=f"Letters {port}",
    )  # fmt: skip


PORTS = ("Skarvik", "Halvorsund", "Torgnes", "Lillevik", "Storholm")


def test_copies_are_told_in_groups() -> None:
    flows = [desk(port, f"f{n}") for n, port in enumerate(PORTS)]
    groups = detect_clones(flows)
    assert [(group.sort, len(group.copies)) for group in groups] == [("flow", 4)]
    assert not any(clone.left for clone in groups[0].copies)
    assert group_title(groups[0]).startswith("5 flows, at least 0.") and all(
        port in group_title(groups[0]) for port in PORTS
    )
    # Two sorts of flows are two groups; one flow alone is none.
    text = "Translate all notices of the quay into the languages of the passengers."
    other = []
    for n in range(3):
        call = step("a", "http", inputs=(Binding(name="url", value=f"https://x/{n}"), Binding(name="q", value="7")))
        other.append(chain(call, ask("b", text), step("c", "delete"), id=f"g{n}", name=f"Notices {n}"))
    assert sorted(len(group.copies) for group in detect_clones([*flows, *other])) == [2, 4]
    assert detect_clones(flows[:1]) == []


FORGOTTEN: list[tuple[str, str, str, str]] = [
    # what the copies are for, the input that was forgotten, how it reads, the word that is still said
    ("Skarvik", "table", "letters_skarvik", "skarvik"),
    ("Skarvik", "to", "desk_skarvik@ferry.example", "skarvik"),
    ("Skarvik", "head", "SkarvikDesk", "skarvik"),
    ("NO", "head", "Letters of NO", "no"),
    ("4021", "table", "letters_4021", "4021"),
]


@pytest.mark.parametrize(("port", "field", "value", "said"), FORGOTTEN)
def test_what_was_forgotten_is_found_however_it_is_written(port: str, field: str, value: str, said: str) -> None:
    other = {"NO": "DK", "4021": "5077"}.get(port, "Torgnes")
    flows = [desk(port, "a", **{field: value}), desk(other, "b", **{field: value})]
    (group,) = detect_clones(flows)
    (clone,) = group.copies
    assert [(left.where, left.old.casefold()) for left in clone.left] == [(f"‘Tell {other}’ (input {field})", said)]


def test_a_word_that_became_two() -> None:
    flows = [desk("Skarvik", "a", head="Skarvik first"), desk("Store Holm", "b", head="Skarvik first")]
    (group,) = detect_clones(flows)
    assert [(left.old, left.new) for left in group.copies[0].left] == [("Skarvik", "Store Holm")]
    # The other way round: two words that became one.
    (group,) = detect_clones(
        [desk("Store Holm", "a", head="Store Holm first"), desk("Skarvik", "b", head="Store Holm first")]
    )
    assert [(left.old, left.new) for left in group.copies[0].left] == [("Store Holm", "Skarvik")]


def test_where_all_was_changed_nothing_is_forgotten() -> None:
    (group,) = detect_clones([desk("Skarvik", "a"), desk("Torgnes", "b")])
    assert not group.copies[0].left
    # What is called alike in both on purpose is no left-over of a word that was changed only once.
    once = [desk("Skarvik", "a", head="the north quay"), desk("Torgnes", "b", head="the south quay")]
    (group,) = detect_clones(once)
    assert not group.copies[0].left


def writer(key: str, value: str, field: str = "status") -> Flow:
    made = Step(id="w", kind="write", effect="write", inputs=(Binding(name=field, value=value),))
    return Flow(id=key, name=key.title(), steps=(made,))


def waiter(key: str, condition: str) -> Flow:
    steps = (Step(id="d", kind="decide"), Step(id="n", kind="send", effect="send"))
    return Flow(
        id=key,
        name=key.title(),
        steps=steps,
        links=(Link(source="d", target="n", role="case", label="go", condition=condition),),
    )


WORDS: list[tuple[str, str, list[tuple[str, str, str]]]] = [
    ("approved", "row.status == 'approved'", [("approved", "approved", "")]),
    ("approved", "row.status == 'Approved'", [("approved", "Approved", "case")]),
    ("refund", 'status = "refunds"', [("refund", "refunds", "plural")]),
    ("cancelled", "status == 'canceled'", [("cancelled", "canceled", "spelling")]),
    ("approved", "status == 'rejected'", []),
    ("approved", "kind == 'approved'", []),
    ("true", "status == 'true'", []),
    ("https://x.example/a", "status == 'https://x.example/a'", []),
]


@pytest.mark.parametrize(("written", "condition", "wanted"), WORDS)
def test_words_that_flows_hand_to_each_other(written: str, condition: str, wanted: list[tuple[str, str, str]]) -> None:
    found = exchanged_words([writer("a", written), waiter("b", condition)])
    assert [(one.written, one.awaited, one.near) for one in found] == wanted
    for one in found:
        assert (one.field, one.writers, one.readers) == ("status", ("A",), ("B",))


def test_a_word_that_is_written_rightly_somewhere_is_no_near_miss() -> None:
    flows = [
        writer("a", "Approved"),
        writer("c", "approved"),
        waiter("b", "status == 'approved'"),
        waiter("d", "status == 'Approved'"),
    ]
    assert {one.near for one in exchanged_words(flows)} == {""}
    # What a flow writes and waits for itself is its own affair.
    both = structs.replace(
        waiter("a", "status == 'done'"), steps=(*waiter("a", "x").steps, writer("a", "done").steps[0])
    )
    assert exchanged_words([both]) == []
    trigger = Trigger(id="t", kind="polling", schedule=Schedule(every=60.0), condition="row.status == 'Done'")
    assert [one.near for one in exchanged_words([writer("a", "done"), Flow(id="b", triggers=(trigger,))])] == ["case"]


def test_the_program_says_no_to_near_misses(tmp_path: Path, run: Run) -> None:
    def flows(word: str) -> list[dict[str, Any]]:
        return [
            {"id": "a", "name": "Clerk", "steps": [{"id": "w", "kind": "write", "effect": "write", "inputs": [{"name": "status", "value": "paid"}]}]},
            {"id": "b", "name": "Sender", "triggers": [{"id": "t", "kind": "polling", "condition": f"status == '{word}'"}], "steps": [{"id": "s", "kind": "send"}]},
        ]  # fmt: skip

    for word, code in (("paid", 0), ("Paid", 1)):
        (tmp_path / "x.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows(word)}))
        ran = run("diff", "x.json", "--clones")
        assert ran.code == code and "status: ‘paid’ is written by ‘Clerk’ and awaited by ‘Sender’" in ran.out
        assert ("as ‘Paid’ (case)" in ran.out) == bool(code)
        assert json.loads(run("diff", "x.json", "--clones", "-f", "json").out)["words"][0]["near"] == (
            "case" if code else ""
        )
        assert "Words that flows hand to each other" in run("diff", "x.json", "--clones", "-f", "markdown").out


def plain_branches(flow: Flow) -> list[set[str]]:
    """What each case of a decision leads to and no other case does, by walking."""
    out = {
        step.id: [one for one in flow.links if one.source == step.id and one.role != "attach"] for step in flow.steps
    }

    def after(first: str) -> set[str]:
        found, work = {first}, [first]
        while work:
            fresh = [one.target for one in out.get(work.pop(), ()) if one.target not in found]
            found.update(fresh)
            work += fresh
        return found

    branches = []
    for decision in flow.steps:
        starts = [one for one in out[decision.id] if one.role in ("case", "next")]
        reach = {one.target: after(one.target) for one in starts}
        for one in starts if len(starts) > 1 else ():
            others = set[str]().union(*[held for target, held in reach.items() if target != one.target])
            branches.append(reach[one.target] - others - {decision.id})
    return [branch for branch in branches if branch]


@given(drawn=drawn_flows())
def test_branches_are_what_one_case_leads_to_alone(drawn: Flow) -> None:
    helpers: dict[str, set[str]] = {}
    for one in drawn.links:
        if one.role == "attach":
            helpers.setdefault(one.target, set()).add(one.source)
    found = [set(unit.ids) for unit in branches_of(drawn) if unit.title.startswith("the case")]
    expected = [
        branch | {name for step in branch for name in helpers.get(step, ())} for branch in plain_branches(drawn)
    ]
    assert found == [{one for one in branch if drawn.step(one) is not None} for branch in expected]
