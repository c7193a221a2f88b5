"""Parts of the comparison: input -> expected."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import numpy as np
import pytest

from builders import ask, chain, flow, link, step
from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.months import months_from
from zeitbuch.core.diff.flow_similarity import flow_likeness, likeness_of
from zeitbuch.core.diff.judging.inputs import hosts_in
from zeitbuch.core.diff.judging.links import case_words
from zeitbuch.core.diff.judging.pairing import brief_value, in_words, plain_value
from zeitbuch.core.diff.judging.rights import effects_of
from zeitbuch.core.diff.reorganisation import shared_steps
from zeitbuch.core.diff.reverting import taken_out
from zeitbuch.core.diff.similarity import assign_pairs, own_likeness, trigrams_of
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Ref
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.change_tables import signed_money, signed_number
from zeitbuch.core.report.comparison_tables import signed_money as signed_amount


@pytest.mark.parametrize(
    ("month", "first", "last"),
    [((2026, 11), "2026-11", "2027-10"), ((2026, 0), "2026-01", "2026-12"), ((2026, 12), "2026-12", "2027-11")],
)
def test_months(month: tuple[int, int], first: str, last: str) -> None:
    found = months_from(month)
    assert (len(found), found[0], found[-1]) == (12, first, last)


@pytest.mark.parametrize(
    ("score", "least", "pairs"),
    [
        ([[1.0, 0.0], [0.0, 1.0]], 0.5, [(0, 0), (1, 1)]),
        ([[0.0, 1.0], [1.0, 0.0]], 0.5, [(0, 1), (1, 0)]),
        ([[0.9, 0.8]], 0.5, [(0, 0)]),
        ([[0.3]], 0.5, []),
        # Equal scores: what stood first stands first.
        ([[0.8, 0.8], [0.8, 0.8]], 0.5, [(0, 0), (1, 1)]),
    ],
)
def test_assignment(score: list[list[float]], least: float, pairs: list[tuple[int, int]]) -> None:
    assert [(row, column) for row, column, _ in assign_pairs(np.array(score), least)] == pairs


def test_a_near_rival_takes_confidence() -> None:
    clear = assign_pairs(np.array([[0.9, 0.1]]), 0.5)[0][2]
    close = assign_pairs(np.array([[0.9, 0.85]]), 0.5)[0][2]
    assert close < clear


def test_trigrams() -> None:
    assert trigrams_of("Ab") == {"  a", " ab", "ab "}
    assert trigrams_of("") == set()


def test_likeness_of_steps() -> None:
    old = [step("a", "send", name="Send the notice"), ask("b", "Sort the letters.")]
    new = [ask("x", "Sort the letters.", name="fulmar-mini-2"), step("y", "send", name="Send the notice")]
    found = own_likeness(old, new, frozenset("abxy"))
    assert found[0, 1] > 0.9 > found[0, 0]
    assert found[0, 0] <= 0.5  # of different kinds


def test_likeness_of_flows() -> None:
    one = chain(step("a", "http"), step("b", "send"), name="Berth delay notices")
    other = chain(ask("p"), step("q", "write"), name="Sailing statistics")
    found = flow_likeness([one, other], [other, one])
    assert (found[0, 1], found[1, 0]) == (pytest.approx(1.0), pytest.approx(1.0))
    assert found[0, 0] < 0.5
    assert [likeness_of(one, flow) for flow in (other, one)] == [pytest.approx(found[0, 0]), pytest.approx(found[0, 1])]


@pytest.mark.parametrize(
    ("value", "hosts"),
    [
        ("https://Boards.example/show", ["boards.example"]),
        ({"to": ["http://a.example", "no address"]}, ["a.example"]),
        (7, []),
    ],
)
def test_hosts_in_a_value(value: Any, hosts: list[str]) -> None:
    assert hosts_in(value) == hosts


def test_words_of_a_case() -> None:
    assert case_words(link("a", "b", "case", "minor", condition="minor"), {}) == "minor"
    assert (
        case_words(link("a", "b", "case", "minor", condition="x < 3", after=("success",)), {})
        == "minor / x < 3 / success"
    )


def test_values_in_text() -> None:
    assert plain_value({"b": 1, "a": "ü"}) == '{"a":"ü","b":1}'
    assert plain_value("as it is") == "as it is"
    assert len(brief_value("x" * 500)) == 200 and brief_value("x" * 500).endswith("…")
    ref = Ref(step="a", path="body", text="{{a.body}}")
    assert in_words("Say {{a.body}}!", (ref,), {"a": "Letter"}) == "Say [body of ‘Letter’]!"


def test_effects_are_those_of_what_may_run() -> None:
    made = chain(step("a", effect="send"), step("b", effect="read"), step("c", effect="delete", enabled=False))
    assert effects_of(made, steps_that_may_run(Graph(made))) == ["read", "send"]


def test_share_of_steps_that_came_along() -> None:
    part = [step("a", name="Sort"), step("b", name="Send"), step("n", "note", name="Why")]
    assert shared_steps(part, [step("x", name="sort")]) == 0.5
    assert shared_steps([step("n", "note")], part) == 0.0


def test_a_step_taken_out_takes_its_helpers_and_closes_the_gap() -> None:
    made = flow(
        [step("a"), step("desk", "agent"), step("helper", "agent"), step("look", "http"), step("b")],
        [
            link("start", "a"),
            link("a", "desk"),
            link("desk", "b"),
            link("helper", "desk", "attach"),
            link("look", "helper", "attach"),
        ],
    )
    left = taken_out(made, "desk")
    assert [found.id for found in left.steps] == ["a", "b"]
    assert [(found.source, found.target) for found in left.links] == [("start", "a"), ("a", "b")]
    assert taken_out(made, "nothing") is made


@pytest.mark.parametrize(("value", "text"), [(1.5, "+1.5"), (-2.0, "−2"), (0.0, "±0")])
def test_signed_numbers(value: float, text: str) -> None:
    assert signed_number(value) == text


def test_signed_money() -> None:
    assert signed_money(Money(Decimal("0.12")), "EUR") == "+0.12 EUR"
    assert "?" in signed_money(Money(Decimal(0), ("tern-embed-1",)), "EUR")
    assert [signed_amount(Decimal(text)) for text in ("3.10", "-0.42", "0")] == ["+3.10", "-0.42", "0.00"]
