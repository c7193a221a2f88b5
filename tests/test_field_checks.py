"""Claimed values that cannot be used, and the forms of records: the quick way through a record finds what looking at every field
and every claim finds."""

from __future__ import annotations

import random
from collections.abc import Iterable
from typing import Any

import pytest

from conftest import draws
from zeitbuch.readers.dialects.field_checks import (
    DURATION,
    FLAG,
    NUMBER,
    OBJECT,
    TRIES,
    WHOLE,
    WORDS,
    make_field,
    one_of,
    refused_values,
    with_refused,
)
from zeitbuch.readers.dialects.link_lists import LinkList
from zeitbuch.readers.dialects.link_rules import LinkRule
from zeitbuch.readers.dialects.paths import Claims, as_whole_number, claim_paths, make_getter, unclaimed_part
from zeitbuch.readers.dialects.prompt_paths import PROMPTS
from zeitbuch.readers.dialects.record_forms import RecordForms
from zeitbuch.readers.input.limits import count_values

ODD = [None, "x", "", "12", 3, 0, -1, 2.5, True, False, "yes", "PT5M", "1:30", "stop", [], ["a", "b"], [{"c": 1}], {}, {"minutes": 2}, {"k": "v"}]  # fmt: skip
TIMES = make_getter("again.times")
FIELDS = [
    make_field("id", WORDS),
    make_field("set", OBJECT),
    make_field("set.turns", WHOLE),
    make_field("set.warm", NUMBER),
    make_field("set.ask", PROMPTS),
    make_field("limit", DURATION),
    make_field("on", FLAG),
    make_field("fails", one_of(["stop", "12"])),
    make_field(["set.a", "set.b"], WORDS),
    make_field("deep.er.still", WORDS),
    make_field("many.*.name", WORDS),
    make_field("again.times", TRIES),
    make_field("again.pause", DURATION, serves=lambda raw: (as_whole_number(TIMES(raw)) or 0) > 0)._replace(
        served_by=make_field("again.times", TRIES)
    ),
    make_field("zone", WORDS, serves=lambda raw: raw.get("on") is True),
    make_field("at.x", NUMBER, partner=make_getter("at.y")),
    make_field("at.y", NUMBER, partner=make_getter("at.x")),
]
INNER = {"set": ("turns", "warm", "ask", "a", "b"), "again": ("times", "pause"), "at": ("x", "y")}


def drawn_record(draw: random.Random) -> dict[str, Any]:
    record: dict[str, Any] = {
        key: draw.choice(ODD) for key in ("id", "limit", "on", "fails", "at", "zone") if draw.random() < 0.7
    }
    for outer, keys in INNER.items():
        if draw.random() < 0.8:
            record[outer] = {key: draw.choice(ODD) for key in keys if draw.random() < 0.7}
    deep: dict[str, Any] = {"still": draw.choice(ODD)} | ({"more": {"than": 1}} if draw.random() < 0.3 else {})
    if draw.random() < 0.5:
        record["many"] = [{"name": draw.choice(ODD)}]
    return record | {"deep": {"er": deep}}


def _claims(paths: Iterable[str]) -> Claims:
    found: Claims = {}
    claim_paths(found, paths)
    return found


CLAIMS = {
    "nothing but what fields ask": None,
    "settings whole": _claims(["id", "zone", "set", "limit", "on", "fails", "again", "at", "many", "deep"]),
    "parts": _claims(["id", "set.turns", "set.warm", "limit", "again.times", "again.pause", "at.x", "many.*.name", "deep.er.still"]),
    "places of lists": _claims(["id", "set.turns.0", "limit.minutes", "on.*", "at.x.1", "deep.*.still"]),
    "all": _claims(["id", "zone", "set", "limit", "on", "fails", "again", "at.x", "at.y", "many.*.name", "deep.er.still"]),
    "every key": _claims(["*", "set.*"]),
}  # fmt: skip


@pytest.mark.parametrize("name", CLAIMS)
def test_what_is_unread_is_found_quickly_as_by_looking_at_each_value(name: str) -> None:
    draw = random.Random(7)
    claims = CLAIMS[name]
    forms = RecordForms(claims, FIELDS)
    refused_values_met = formed = 0
    shapes = [drawn_record(draw) for _ in range(60)] + [SOUND] * 10
    turns = draws(3500, 10500)
    for turn in range(turns):
        record = drawn_record(draw) if turn % 3 == 0 else _with_other_values(shapes[turn * 70 // turns], draw)
        rest = {} if claims is None else unclaimed_part(record, claims)
        refused = refused_values(record, FIELDS)
        assert forms.unread_in(record) == (count_values(rest), refused), record
        assert forms.unread_parts(record) == (rest, refused), record
        assert forms.rest_of(record) == with_refused(rest, refused), record
        refused_values_met += len(refused)
        formed += forms._form_of(record) is not None
    assert refused_values_met > turns // 2
    assert formed > turns // 6  # or nothing was tried


# A record in which all is in order, and nothing is unread where settings are claimed whole.
SOUND = {
    "id": "a", "zone": "x", "limit": 5, "on": True, "set": {"turns": 3, "warm": 2.5, "ask": "x", "a": 1}, "again": {"times": 3, "pause": 12},
    "at": {"x": 1, "y": 2.5}, "many": [{"name": "x"}], "deep": {"er": {"still": "x"}},
}  # fmt: skip
KIN = {
    bool: [True, False],
    int: [0, 1, 3, -1, 12],
    float: [2.5, 3.0, 1e300],
    str: ["x", "", "12", "stop", "PT5M", "yes"],
}


def _with_other_values(record: dict[str, Any], draw: random.Random) -> dict[str, Any]:
    """A record with the same keys and, mostly, values of the same types."""

    def other(value: Any) -> Any:
        if type(value) is dict:
            return _with_other_values(value, draw)
        if type(value) is list:
            return [*map(other, value), *([{"more": [1]}] if draw.random() < 0.05 else [])]
        kin = KIN.get(type(value), [value])
        return draw.choice([None, *kin]) if draw.random() < 0.1 else draw.choice(kin)

    return {key: other(value) for key, value in record.items()}


def test_a_form_is_worked_out_for_what_comes_again_and_only_then() -> None:
    forms = RecordForms(_claims(["id", "at.x"]), [make_field("id", WORDS), make_field("at.x", NUMBER)])
    record = {"id": "a", "at": {"x": 1}, "hue": "grey"}
    assert forms._form_of(record) is None
    assert forms._form_of({**record, "id": "b"}) is not None
    assert forms.unread_in({**record, "id": 7}) == (1, [])
    assert forms.unread_in({**record, "hue": {"a": 1, "b": [2, 3]}}) == (3, [])
    assert forms.unread_in({**record, "at": {"x": 1, "y": 2}}) == (2, [])
    assert [one.keys for one in forms.unread_in({**record, "at": {"x": "far"}})[1]] == [("at", "x")]
    for place in range(50):
        forms.unread_in({f"key {place}": place})
    assert len(forms.known) == 1


@pytest.mark.parametrize("paths", [["id", "again"], ["id", "again.times", "again.pause"], ["again.times"]])
def test_what_a_type_settles_is_so(paths: list[str]) -> None:
    """Numbers of tries say by their type whether a record has a use for the time between them."""
    fields = [field for field in FIELDS if field.ways[0][0][0] in ("id", "again")]
    claims, draw = _claims(paths), random.Random(11)
    forms, settled = RecordForms(claims, fields), 0
    for turn in range(draws(1500, 6000)):
        times, pause = draw.choice([0, 1, 2, 3, -1, "2", 2.0, True, None]), draw.choice([0, 5, 2.5, -1, "PT5M", None])
        if turn < 4:
            times, pause = 2, 5  # the common form is met first
        record = {"id": draw.choice(["a", 3, None, "a"]), "again": {"times": times, "pause": pause}}
        expected = count_values(unclaimed_part(record, claims)), refused_values(record, fields)
        sure = forms.missed_for_sure(record)
        assert sure is None or (sure, []) == expected, record
        assert forms.unread_in(record) == expected, record
        settled += sure is not None
    assert settled > 100


def test_two_fields_at_one_place_both_count() -> None:
    forms = RecordForms(None, [make_field("set.turns", WHOLE), make_field("set.turns", NUMBER)])
    for _ in range(3):
        assert forms.unread_in({"set": {"turns": 3}}) == (0, [])
    assert [one.value for one in forms.unread_in({"set": {"turns": -1}})[1]] == [-1]


def test_plain_links_are_read_at_once_and_others_are_left_to_a_closer_look() -> None:
    links = LinkList(LinkRule(at="$.links[*]", source="from", target="to", outlet="way", label="says"))
    plain = [{"from": "a", "to": "b", "way": "yes"}, {"to": "c", "from": "b", "says": "then"}]
    assert links.plain_ends(plain) == [("a", "yes", "b"), ("b", None, "c")]
    for odd in (
        {"from": "a"},
        {"from": 1, "to": "b"},
        {"from": "a", "to": "b", "more": 1},
        {"from": "a", "to": "b", "says": [1]},
        7,
    ):
        assert links.plain_ends([*plain, odd]) is None
    bare = LinkList(LinkRule(at="$.links[*]", source="from", target="to"))
    assert bare.plain_ends([{"from": "a", "to": "b"}]) == [("a", None, "b")]
    assert bare.plain_ends([{"from": "a", "to": "b", "way": "yes"}]) is None
    deep = LinkList(LinkRule(at="$.links[*]", source="from.step", target="to"))
    assert deep.plain_ends([{"from": {"step": "a"}, "to": "b"}]) is None


def test_refused_values_stand_where_they_stood() -> None:
    record = {
        "set": {"turns": "many", "a": "1", "b": "2"},
        "limit": "1:30",
        "at": {"x": 4},
        "many": [{"name": {"q": 1}}],
    }
    refused = RecordForms(None, FIELDS).refused_in(record)
    assert with_refused({"set": {"c": 3}}, refused) == {
        "set": {"c": 3, "turns": "many", "b": "2"}, "limit": "1:30", "at": {"x": 4}, "many.*.name": [{"q": 1}],
    }  # fmt: skip
    told = {".".join(one.keys) for one in refused if one.expected}
    assert told == {"set.turns", "limit", "many.*.name"}  # another place, or a missing half, is no fault of the value
