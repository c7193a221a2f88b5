"""Rows of bare values beside the names of their columns, and switches written as 1 and 0."""

from __future__ import annotations

import random
from typing import Any

import pytest

from scores import read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

ROOMS = "ledger quay ballast cabin winch galley mast deck".split()
PROMPT = "Read the letter about the {0} and answer in two short sentences, kindly and in plain words: <<{1}.out>>"
HEAD = 'dialect = 1\nname = "rows"\nsignature = { all = ["$.steps"] }\nflow = { id = "id" }\n'
STEP = 'step = { at = "$.steps.body[*]", id = "id", operation = "does", timeout = "most", next = "then" }\n'
ROWS = '[[rows]]\nat = "$.steps"\ncolumns = "head"\nrows = "body"\n'


def read(steps: Any) -> tuple[Flow, list[str]]:
    import json

    reader = Reader([parse_dialect(HEAD + STEP + ROWS, "rows.toml")])
    (flow,) = reader.flows_of([Held("f.json", json.dumps({"id": "f", "steps": steps}).encode())])
    return flow, [str(problem) for problem in reader.problems]


def test_what_does_not_fit_a_column_is_kept_and_told() -> None:
    head = ["id", "does", "most", "then"]
    flow, told = read(
        {
            "head": head,
            "body": [["a", "x", 5, "b", "more", 7], ["b", "x", "soon"], {"id": "c", "does": "x"}],
            "count": 3,
        }
    )
    assert [(step.id, step.timeout) for step in flow.steps] == [("a", 5.0), ("b", None), ("c", None)]
    assert [(link.source, link.target) for link in flow.links] == [("a", "b")]
    assert flow.steps[0].unread == {"@rest": ["more", 7]} and flow.steps[1].unread == {"most": "soon"}
    assert "count" in str(flow.unread) or flow.content.unread >= 4
    assert any("expected a row of values" in line for line in told)
    assert any("/steps/body/1/2" in line and "soon" in line for line in told), (
        told
    )  # the place in the file, not in the object made of it


@pytest.mark.parametrize(
    "head", [["id", "id", "most", "then"], ["id", 2, "most", "then"], None], ids=["twice", "a number", "none"]
)
def test_names_of_columns_must_be_names(head: Any) -> None:
    (told,) = [line for line in read({"head": head, "body": [["a", "x", 5, "b"]]})[1] if "names of columns" in line]
    assert "f.json" in told and "each once" in told


def made(at: int, headed: bool = False) -> dict[str, Any]:
    rng = random.Random(f"rows {at}")
    rows: list[list[Any]] = []
    for place in range(4 + at % 3):
        uses = ("llm", "http", "mail")[place % 3] if place else ("clock", "hook")[at % 2]
        given: dict[str, Any] = {
            "llm": {"model": "skua-lite-1", "prompt": PROMPT.format(rng.choice(ROOMS), place - 1)}, "http": {"url": f"https://{rng.choice(ROOMS)}.example/q"},
            "mail": {"to": "desk@ferry.example", "subject": "Answer", "body": f"<<{place - 1}.out>>"}, "clock": {"cron": f"{at} 6 * * 1-5"}, "hook": {"path": f"/in/{at}"},
        }[uses]  # fmt: skip
        rows.append([place, f"Step {place} of {at}", uses, given, 0 if (place, at % 5) == (2, 1) else 1])
    names = ["no", "title", "type", "params", "enabled"]
    ends = [[place, place + 1] for place in range(len(rows) - 1)]
    steps: Any = [names, *rows] if headed else {"columns": names, "rows": rows}
    links: Any = [["from", "to"], *ends] if headed else {"columns": ["from", "to"], "rows": ends}
    return {"flow": {"code": f"q{at}", "title": f"The {ROOMS[at % 8]} {at}", "steps": steps, "links": links}}


def suggested(documents: list[Any]) -> Suggestion:
    found = suggest_dialect(documents, "b")
    assert found is not None
    return found


@pytest.mark.parametrize("headed", [False, True], ids=["columns beside", "in the first row"])
def test_rows_are_proposed_and_read(headed: bool) -> None:
    documents = [made(at, headed) for at in range(10)]
    found = suggested(documents)
    assert [(rule.at, rule.columns, rule.rows) for rule in found.dialect.rows] == (
        [("$.flow.links", "", ""), ("$.flow.steps", "", "")] if headed else [("$.flow.links", "columns", "rows"), ("$.flow.steps", "columns", "rows")]
    )  # fmt: skip
    flows = read_with(found.dialect, documents)
    assert [len(flow.steps) for flow in flows] == [3 + at % 3 for at in range(10)]
    assert all(flow.content.unread == 0 and len(flow.triggers) == 1 for flow in flows)
    assert {step.enabled for flow in flows for step in flow.steps} == {True, False}
    assert found.dialect.step.enabled == "enabled" and not any(question.id == "switch" for question in found.questions)


def test_pairs_of_settings_and_of_ends_have_no_heads() -> None:
    """A first pair that is the same everywhere is a setting; what comes again below is an end."""
    documents = [made(at) for at in range(10)]
    for document in documents:
        flow = document["flow"]
        flow["options"] = [["retries", "3"], ["mode", f"m{flow['code']}"]]
        flow["ways"] = [["0", "1"], ["1", "2"], ["2", "3"]]
    assert {rule.at for rule in suggested(documents).dialect.rows} == {"$.flow.links", "$.flow.steps"}


def test_a_number_says_that_a_step_is_muted() -> None:
    """1 is what the key says, not what is usual."""
    documents = [made(at) for at in range(10)]
    for document in documents:
        steps = document["flow"]["steps"]
        steps["columns"][4] = "muted"
        steps["rows"] = [[*row[:4], 1 - row[4]] for row in steps["rows"]]
    found = suggested(documents)
    assert (found.dialect.step.disabled, found.dialect.step.enabled) == ("muted", "")
    off = [step.title for flow in read_with(found.dialect, documents) for step in flow.steps if not step.enabled]
    assert off == ["Step 2 of 1", "Step 2 of 6"]
