"""What a statement for a database does, and steps whose statement says so."""

from __future__ import annotations

from typing import Any

import pytest

from scores import proposed, read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.dialects.statements import is_statement, statement_kind

DIALECT = """
dialect = 1
name = "jetty"
signature = { all = ["$.steps"] }
flow = { id = "id" }
step = { at = "$.steps[*]", id = "id", operation = "does", settings = "with", statement = "with.sql" }
kind = [{ operation = "db", kind = "read", effect = "read" }, { operation = "call", kind = "http", effect = "read" }]
"""


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("select * from berths", "read"), ("  SELECT 1;", "read"), ("insert into berths values (1)", "write"), ("UPDATE b SET x = 1", "write"),
        ("-- all of them\nDELETE FROM berths", "delete"), ("/* old */ truncate table berths", "delete"),
        ("with late as (select 1) select * from late", "read"), ("WITH late AS (SELECT 1) DELETE FROM berths USING late", "delete"),
        ("select 1; drop table berths", "delete"), ("begin; insert into a values (1); commit", "write"), ("CALL close_day()", "write"),
        ("MERGE INTO a USING b ON (a.id = b.id)", "write"), ("{{query}}", None), ("", None), ("berths", None), ("select 'delete from a; b'", "read"), ("with " + "(" * 5000, None),
        ("WITH gone AS (DELETE FROM a RETURNING *) SELECT * FROM gone", "delete"), ("EXPLAIN ANALYZE DELETE FROM a", "delete"),
        ("with a as (select 1) select replace(x, 'y', 'z') from a for update", "read"), ("explain select 1", "read"),
        ("select 1; " * 3000, None), ("drop table a; " + "select 1; " * 3000, "delete"),
    ],
)  # fmt: skip
def test_what_a_statement_does(text: str, kind: str | None) -> None:
    assert statement_kind(text) == kind


def test_sentences_are_no_statements() -> None:
    for text in (
        "select a berth for the guest",
        "update the table please",
        "drop me a line",
        "delete",
        "Insert coin",
        "with love",
    ):
        assert not is_statement(text)
    for text in (
        "select a\nfrom b",
        "INSERT INTO a VALUES (1)",
        "delete from a",
        "with x as (select 1) select 2",
        "-- x\nupdate a set b = 1",
    ):
        assert is_statement(text)


def read(*steps: dict[str, Any]) -> Flow:
    (flow,) = read_with(parse_dialect(DIALECT, "jetty.toml"), [{"id": "f", "steps": list(steps)}])
    return flow


def test_the_statement_says_what_a_step_of_a_database_does() -> None:
    flow = read(
        {"id": "a", "does": "db", "with": {"sql": "select 1"}}, {"id": "b", "does": "db", "with": {"sql": "update x set y = 1"}},
        {"id": "c", "does": "db", "with": {"sql": "delete from x"}}, {"id": "d", "does": "db", "with": {"sql": "<<a.text>>"}}, {"id": "e", "does": "db"},
        {"id": "g", "does": "call", "with": {"sql": "delete from x"}},
    )  # fmt: skip
    assert {step.id: (step.kind, step.effect) for step in flow.steps} == {
        "a": ("read", "read"), "b": ("write", "write"), "c": ("delete", "delete"), "d": ("read", "read"), "e": ("read", "read"),
        "g": ("http", "read"),
    }  # fmt: skip
    assert flow.content.unread == 0 and [one.name for one in flow.steps[0].inputs] == ["sql"]


def test_where_statements_stand_is_proposed() -> None:
    def export(at: int) -> dict[str, Any]:
        statements = (f"select * from berths where quay = {at}", f"insert into log values ({at})", "delete from carts")
        names = ("look", "note", "clear")
        return {
            "title": f"Quay {at}",
            "steps": [
                {"id": name, "does": "db.query", "with": {"sql": text, "pool": "main"}, "then": after}
                for name, text, after in zip(names, statements, (*names[1:], None), strict=True)
            ] + [{"id": "tell", "does": "mail.send", "with": {"to": "crew@ferry.example", "text": f"Quay {at}"}}],
        }  # fmt: skip

    made, flows = proposed([export(at) for at in range(6)])
    (rule,) = [one for one in made.dialect.kind if one.operation == "db.query"]
    assert rule.statement == "with.sql" and rule.roles == {"sql": "query"}
    assert [step.effect for step in flows[0].steps] == ["read", "write", "delete", "send"]
