"""The model and its native form: positions out of equality, round trips, fingerprints."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import assume, given, settings
from hypothesis.internal.conjecture import providers
from msgspec import structs

from builders import ask, chain, flow, flows, link, step
from conftest import draws
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.readers.input.decode import decode_document
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.standards import native
from zeitbuch.writers.exchange.native import to_json, to_yaml


def reread(text: str, name: str) -> list[Flow | Problem]:
    document, _ = decode_document(name, text.encode(), Limits())
    return list(native.flows(document, Origin(name)))


def test_origin_never_counts_in_a_comparison() -> None:
    a, b = step("a", origin=Origin("x", "/1")), step("a", origin=Origin("y", "/2", line=3))
    assert a == b == step("a")
    assert step("a") == a
    assert str(Origin("x.json", "/a/0")) == "x.json#/a/0"
    assert str(Origin("p.zip", member="x.json", line=4)) == "p.zip!x.json:4"


def test_records_are_frozen() -> None:
    with pytest.raises(AttributeError):
        step("a").name = "b"  # type: ignore[misc]


@settings(max_examples=draws(40), deadline=None)
@given(flows())
def test_native_round_trip_gives_the_identical_model(f: Flow) -> None:
    for text, name in ((to_yaml(Estate(flows=(f,))), "x.yaml"), (to_json(Estate(flows=(f,))), "x.json")):
        (back,) = reread(text, name)
        assert isinstance(back, Flow)
        assume("a secret" not in to_json(Estate(flows=(back,))))  # a drawn text that looks like one is masked
        assert fingerprint(back) == fingerprint(f)
        assert structs.replace(back, content=f.content, format=f.format) == f


def test_native_masks_what_looks_like_a_secret() -> None:
    (back,) = reread(to_yaml(Estate(flows=(flow([], [], name="PASSWORD '000'"),))), "x.yaml")
    assert isinstance(back, Flow)
    assert back.name == "PASSWORD 'a secret'"


def test_draws_do_not_depend_on_what_is_loaded() -> None:
    providers._get_local_constants()
    assert not providers._local_constants.strings


def test_native_keeps_what_the_export_was(november: Estate) -> None:
    back = reread(to_yaml(november), "x.yaml")
    assert tuple(back) == november.flows


def test_a_role_that_is_spelled_out_means_what_no_role_means() -> None:
    made = flow([ask("a", "Sort it.")], [])
    raw = msgspec.json.encode(made)
    spelled = msgspec.json.decode(raw.replace(b'{"text":"Sort it."', b'{"text":"Sort it.","role":"user"'), type=Flow)
    other = msgspec.json.decode(raw.replace(b'{"text":"Sort it."', b'{"text":"Sort it.","role":"system"'), type=Flow)
    assert spelled == made and fingerprint(spelled) == fingerprint(made) != fingerprint(other)


def test_fingerprint_ignores_layout_time_and_order() -> None:
    f = flow([step("a"), step("b")], [link("start", "a"), link("a", "b")])
    moved = structs.replace(
        f,
        steps=(step("b", position=(1.0, 2.0)), step("a")),
        links=f.links[::-1],
        changed="2026-11-01",
        version="9",
        format="x",
    )
    assert fingerprint(moved) == fingerprint(f)
    for other in (chain(step("a"), step("c")), structs.replace(f, name="Other"), structs.replace(f, links=f.links[:1])):
        assert fingerprint(other) != fingerprint(f)


@pytest.mark.parametrize(
    ("text", "expected", "pointer"),
    [
        ("zeitbuch: 2\nflows: []", "expected `zeitbuch: 1`, found 2", ""),
        ("zeitbuch: 1", "expected a list under `flows`", ""),
        ("zeitbuch: 1\nflow: []\nflows: []", "unknown keys flow", ""),
        (
            "zeitbuch: 1\nflows: [{id: a, steps: [{id: s, kind: magic}]}]",
            "Invalid enum value 'magic'",
            "/flows/0/steps/0/kind",
        ),
        ("zeitbuch: 1\nflows: [{name: a}]", "missing required field `id`", "/flows/0"),
        ("zeitbuch: 1\nflows: [{id: a, colour: red}]", "unknown field `colour`", "/flows/0"),
    ],
)
def test_wrong_native_forms_are_said_with_their_place(text: str, expected: str, pointer: str) -> None:
    found = [p for p in reread(text, "x.yaml") if isinstance(p, Problem)]
    assert expected in found[0].message
    assert found[0].origin is not None and found[0].origin.pointer == pointer


def test_one_wrong_flow_leaves_the_others() -> None:
    found = reread("zeitbuch: 1\nflows: [{id: a}, {id: 5}, {id: c}]", "x.yaml")
    assert [type(f).__name__ for f in found] == ["Flow", "Problem", "Flow"]


def test_yaml_words_and_dates_stay_text() -> None:
    (found,) = reread("zeitbuch: 1\nflows: [{id: a, state: on, changed: 2026-11-01, version: '1'}]", "x.yaml")
    assert isinstance(found, Flow)
    assert (found.state, found.changed) == ("on", "2026-11-01")


def test_json_is_stable() -> None:
    f = flow([step("a", unread={"b": 1, "a": 2})], [])
    assert msgspec.json.encode(f) == msgspec.json.encode(f)
