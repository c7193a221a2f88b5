"""The parts of the inference, one after the other, on invented documents whose answers are known."""

from __future__ import annotations

from typing import Any

import pytest

from zeitbuch.readers.infer.evidence import literal_pattern
from zeitbuch.readers.infer.identity import Identity, find_identity, value_of
from zeitbuch.readers.infer.joins import Joins, find_joins
from zeitbuch.readers.infer.kinds import judge_operations, operation_contexts
from zeitbuch.readers.infer.operations import is_tokenlike
from zeitbuch.readers.infer.starts import find_starts
from zeitbuch.readers.infer.steps import Found, find_steps


def steps(count: int, **more: Any) -> list[dict[str, Any]]:
    sorts = ["tide.read", "tide.sort", "tide.send"]
    return [{"ref": f"s{n}", "does": sorts[n % 3], "called": f"Step {n}", **more} for n in range(count)]


def records(number: int) -> dict[str, Any]:
    made = [
        {**step, "ref": f"q{number}-{place}", "called": f"Piece {number}.{place}"}
        for place, step in enumerate(steps(6))
    ]
    lines = [{"out": f"q{number}-{n}", "in": f"q{number}-{n + 1}"} for n in range(5)]
    return {"title": f"Quay {number}", "pieces": made, "lines": lines}


def pointers(number: int) -> dict[str, Any]:
    made = [
        {**step, "ref": f"q{number}-{place}", "called": f"Piece {number}.{place}"}
        for place, step in enumerate(steps(6))
    ]
    for place in range(5):
        made[place]["goes"] = f"q{number}-{place + 1}"
    return {"title": f"Quay {number}", "pieces": made}


def bare(number: int) -> dict[str, Any]:
    return {"title": f"Quay {number}", "pieces": steps(6)}


def parts(make: Any, count: int = 4) -> tuple[Found, Identity, Joins]:
    found = find_steps([make(number) for number in range(count)])
    assert found is not None
    identity = find_identity(found)
    return found, identity, find_joins(found, identity)


@pytest.mark.parametrize("make", [records, pointers])
def test_steps_and_their_id_are_found(make: Any) -> None:
    found, identity, _ = parts(make)
    assert (found.steps_at[:1], found.operation) == (("pieces",), ("does",))
    assert sum(len(sample.steps) for sample in found.samples) == 24
    assert (identity.id, identity.name) == (("ref",), ("called",))
    assert value_of(found.samples[1].steps[2], ("ref",)) == "q1-2"
    assert value_of(found.samples[1].steps[2], ("nothing",)) == ""


def test_links_as_records_of_their_own() -> None:
    *_, joins = parts(records)
    assert (joins.way, joins.at[:1], joins.source, joins.target) == ("records", ("lines",), ("out",), ("in",))
    assert len(joins.pairs) == 20 and joins.by == "id"


def test_links_as_pointers_within_steps() -> None:
    *_, joins = parts(pointers)
    assert (joins.way, joins.at, len(joins.pairs)) == ("pointers", ("goes",), 20)


def test_without_links_the_order_stands_and_is_less_sure() -> None:
    *_, joins = parts(bare)
    assert (joins.way, joins.pairs) == ("order", ())
    assert joins.sure < parts(records)[2].sure


def test_how_operations_stand() -> None:
    found, identity, joins = parts(records)
    seen = operation_contexts(found, identity, joins)
    assert {name: context.steps for name, context in seen.items()} == {"tide.read": 8, "tide.sort": 8, "tide.send": 8}
    # Only the first step of each flow has nothing before it.
    assert {name: context.roots for name, context in seen.items()} == {"tide.read": 4, "tide.sort": 0, "tide.send": 0}


def test_operations_are_judged_by_trade_words() -> None:
    found, identity, joins = parts(records)
    verdicts = judge_operations(found, identity, joins)
    assert verdicts["tide.send"].hint == "send"
    assert all(0 <= verdict.sure <= 1 for verdict in verdicts.values())


def test_separate_triggers() -> None:
    def make(number: int) -> dict[str, Any]:
        made = records(number)
        start = {"key": f"w{number}", "sort": "schedule.daily"}
        return {**made, "wakes": [start], "lines": [{"out": f"w{number}", "in": f"q{number}-0"}, *made["lines"]]}

    found, identity, joins = parts(make)
    starts = find_starts(found, identity, joins, 0)
    assert starts is not None
    assert (starts.at[:1], starts.id, starts.operation) == (("wakes",), ("key",), ("sort",))


def test_nothing_like_triggers() -> None:
    found, identity, joins = parts(records)
    assert find_starts(found, identity, joins, 0) is None


@pytest.mark.parametrize(
    ("value", "expected"),
    [("tide.read", True), ("", False), (" tide", False), ("a\nb", False), ("x" * 81, False), (7, False)],
)
def test_what_may_be_an_operation(value: Any, expected: bool) -> None:
    assert is_tokenlike(value) is expected


@pytest.mark.parametrize(("text", "expected"), [("a.b", "a.b"), ("a*", "a[*]"), ("[x?", "[[]x[?]")])
def test_literal_patterns(text: str, expected: str) -> None:
    assert literal_pattern(text) == expected


def _flow_of_boxes(name: str, kind: str, first: int) -> dict[str, Any]:
    """A flow with a word for its state, which repeats as types do, and boxes under their ids."""
    boxes = {
        f"s{number}": {
            "tovi": f"Weigh {name} {number}", "pazo": ("ka.mi", "lo.ru", "pe.so")[number % 3],
            "gufe": {"niba": f"{name} at {number}", "xoda": number, "wime": ["deck", "crew"]}, "reto": f"s{number + 1}",
        }
        for number in range(first, first + 5)
    }  # fmt: skip
    return {"hopa": f"flow-{first}", "tovi": f"Weigh {name}", "sile": kind, "bomu": boxes}


def test_what_consists_of_records_nearly_whole_is_the_flow_and_not_a_step() -> None:
    flows = [
        _flow_of_boxes(name, kind, 10 * at)
        for at, (name, kind) in enumerate([("cabin", "qu.wa"), ("deck", "qu.wa"), ("mail", "qu.le")])
    ]
    found = find_steps([{"edition": 3, "kapa": flows}])
    assert found is not None
    assert (found.flow_at, found.steps_at, found.operation) == (("kapa", "*"), ("bomu", "*"), ("pazo",))
    assert [len(sample.steps) for sample in found.samples] == [5, 5, 5]
