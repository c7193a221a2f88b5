"""Claimed values that cannot be used: the quick way through a record finds what looking at every field finds."""

from __future__ import annotations

import random
from typing import Any

from zeitbuch.readers.dialects.field_checks import (
    DURATION,
    FLAG,
    NUMBER,
    OBJECT,
    PROMPTS,
    WHOLE,
    WORDS,
    FieldChecks,
    make_field,
    one_of,
    refused_values,
    with_refused,
)
from zeitbuch.readers.dialects.paths import as_whole_number, make_getter

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
    make_field("again.times", WHOLE),
    make_field("again.pause", DURATION, serves=lambda raw: bool(as_whole_number(TIMES(raw)))),
    make_field("at.x", NUMBER, partner=make_getter("at.y")),
    make_field("at.y", NUMBER, partner=make_getter("at.x")),
]
INNER = {"set": ("turns", "warm", "ask", "a", "b"), "again": ("times", "pause"), "at": ("x", "y")}


def drawn_record(draw: random.Random) -> dict[str, Any]:
    record: dict[str, Any] = {
        key: draw.choice(ODD) for key in ("id", "limit", "on", "fails", "at") if draw.random() < 0.7
    }
    for outer, keys in INNER.items():
        if draw.random() < 0.8:
            record[outer] = {key: draw.choice(ODD) for key in keys if draw.random() < 0.7}
    return record | {"many": [{"name": draw.choice(ODD)}], "deep": {"er": {"still": draw.choice(ODD)}}}


def test_what_is_refused_is_found_quickly_as_by_looking_at_each_field() -> None:
    draw = random.Random(7)
    checks = FieldChecks(FIELDS)
    count = 0
    for _ in range(6000):
        record = drawn_record(draw)
        found = checks.refused_in(record)
        assert found == refused_values(record, FIELDS), record
        count += len(found)
    assert count > 6000


def test_refused_values_stand_where_they_stood() -> None:
    record = {
        "set": {"turns": "many", "a": "1", "b": "2"},
        "limit": "1:30",
        "at": {"x": 4},
        "many": [{"name": {"q": 1}}],
    }
    refused = FieldChecks(FIELDS).refused_in(record)
    assert with_refused({"set": {"c": 3}}, refused) == {
        "set": {"c": 3, "turns": "many", "b": "2"}, "limit": "1:30", "at": {"x": 4}, "many.*.name": [{"q": 1}],
    }  # fmt: skip
    told = {".".join(one.keys) for one in refused if one.expected}
    assert told == {"set.turns", "limit", "many.*.name"}  # another place, or a missing half, is no fault of the value
