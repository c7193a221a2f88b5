"""Usage in standard forms: OTLP JSON traces, XES event logs, FOCUS billing tables."""

from __future__ import annotations

import gzip
import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Run
from zeitbuch.core.actuals.matching import Names
from zeitbuch.core.actuals.usage_mapping import ColumnRule, UsageMapping
from zeitbuch.readers.usage.log_sample import sample_log
from zeitbuch.readers.usage.process_events import EventReading
from zeitbuch.readers.usage.standard_proposal import propose_standard
from zeitbuch.readers.usage.trace_calls import SpanCounts, lines_of_trace
from zeitbuch.readers.usage.trace_spans import Span
from zeitbuch.readers.usage.usage_log import UsageSums, read_usage

HOUR = 3_600_000_000_000
START = 1_790_000_000 * 1_000_000_000


def span(
    id: str,
    parent: str = "",
    name: str = "",
    op: str = "",
    tokens: tuple[int, int] | None = None,
    model: str = "",
    **more: Any,
) -> Span:
    values = {"gen_ai.operation.name": op} if op else {}
    values |= {"gen_ai.request.model": model} if model else {}
    if tokens is not None:
        values |= {"gen_ai.usage.input_tokens": str(tokens[0]), "gen_ai.usage.output_tokens": str(tokens[1])}
    start, end = more.pop("start", 0), more.pop("end", 1)
    values |= more.pop("values", {})
    return Span("t", id, parent, name or id, START + start, START + end, more.pop("error", False), values, {})


def lines(*spans: Span) -> tuple[list[dict[str, Any]], SpanCounts]:
    counts = SpanCounts()
    return [values for values, _ in lines_of_trace(spans, counts)], counts


def total(rows: list[dict[str, Any]], name: str) -> float:
    return sum(row.get(name) or 0 for row in rows)


def test_a_workflow_that_repeats_its_calls_is_counted_once() -> None:
    rows, counts = lines(
        span("a", name="Letters", op="invoke_workflow", tokens=(30, 3)),
        span("b", "a", name="Read"),
        span("c", "b", op="chat", tokens=(10, 1), model="gull-1"),
        span("d", "a", op="chat", tokens=(20, 2), model="gull-1"),
    )
    assert (total(rows, "tokens_in"), total(rows, "tokens_out"), total(rows, "calls")) == (30, 3, 2)
    assert counts["repeated"] == 1
    assert [row.get("step") for row in rows] == [None, "Read", "Read", "d"]
    assert {row["flow"] for row in rows} == {"Letters"}
    assert [row.get("model") for row in rows] == [None, None, "gull-1", "gull-1"]


def test_what_a_parent_has_beyond_its_children_is_the_rest() -> None:
    rows, counts = lines(
        span("a", op="invoke_agent", tokens=(50, 9)), span("b", "a", op="chat", tokens=(10, 1), model="m")
    )
    assert (total(rows, "tokens_in"), total(rows, "tokens_out"), total(rows, "calls")) == (50, 9, 1)
    assert counts["rest"] == 1


def test_a_call_traced_by_two_libraries_is_one_call() -> None:
    same = lines(span("a", op="chat", tokens=(10, 1), model="m"), span("b", "a", op="chat", tokens=(10, 1), model="m"))[
        0
    ]
    bare = lines(span("a", op="chat", tokens=(10, 1), model="m"), span("b", "a", op="chat", model="m"))[0]
    within = lines(
        span("a", op="chat", tokens=(10, 1), model="m"), span("b", "a", op="chat", tokens=(4, 1), model="m")
    )[0]
    assert [(total(rows, "tokens_in"), total(rows, "calls")) for rows in (same, bare, within)] == [
        (10, 1),
        (10, 1),
        (14, 2),
    ]


def test_an_agent_without_calls_below_does_not_say_how_many_it_made() -> None:
    rows, counts = lines(span("a", op="invoke_agent", tokens=(10, 1), model="m"))
    assert rows[0]["calls"] is None and rows[0]["tokens_in"] == 10 and counts["agents"] == 1


def test_spans_that_come_twice_or_go_in_a_circle() -> None:
    one = span("b", "a", op="chat", tokens=(10, 1), model="m")
    rows, counts = lines(span("a", name="Letters"), one, one)
    assert total(rows, "tokens_in") == 10 and counts["twice"] == 1
    rows, _ = lines(
        span("a", "b", op="chat", tokens=(10, 1), model="m"), span("b", "a", op="chat", tokens=(5, 1), model="m")
    )
    assert total(rows, "tokens_in") == 15


def test_seconds_of_a_run_add_up_and_a_failure_is_told_once() -> None:
    rows, _ = lines(
        span("a", start=0, end=10 * HOUR, error=True),
        span("b", "a", start=HOUR, end=4 * HOUR, error=True),
        span("c", "a", start=2 * HOUR, end=6 * HOUR),
    )
    assert [row["seconds"] for row in rows] == [5 * 3600.0, 3 * 3600.0, 4 * 3600.0]
    assert [row["status"] for row in rows] == ["error below", "error", "ok"]


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 9), st.integers(0, 9)), min_size=1, max_size=7))
def test_leaves_alone_say_how_many_calls_there_are(drawn: list[tuple[int, int, int]]) -> None:
    """Whatever the tree: where every inner span repeats the sums below it, tokens are those of the leaves."""
    parents = [None if not number else above % number for number, (above, _, _) in enumerate(drawn)]
    tokens = [(given, got) for _, given, got in drawn]
    leaves = [number for number in range(len(drawn)) if number not in parents]
    below = {number: [leaf for leaf in leaves if number in _ancestors(leaf, parents)] for number in range(len(drawn))}
    sums = {number: tuple(sum(tokens[leaf][side] for leaf in below[number]) for side in (0, 1)) for number in below}
    spans = [
        span(str(number), "" if parents[number] is None else str(parents[number]), op="chat" if number in leaves else "invoke_agent",
             tokens=tokens[number] if number in leaves else sums[number], model="m")
        for number in range(len(drawn))
    ]  # fmt: skip
    rows, _ = lines(*reversed(spans))
    assert total(rows, "tokens_in") == sum(tokens[leaf][0] for leaf in leaves)
    assert total(rows, "calls") == len(leaves)


def _ancestors(number: int, parents: list[int | None]) -> set[int]:
    found, above = set(), parents[number]
    while above is not None:
        found.add(above)
        above = parents[above]
    return found


def document(spans: list[dict[str, Any]]) -> dict[str, Any]:
    attributes = [{"key": "deployment.environment.name", "value": {"stringValue": "prod"}}]
    return {"resourceSpans": [{"resource": {"attributes": attributes}, "scopeSpans": [{"spans": spans}]}]}


def written(id: str, parent: str, name: str, tokens: int, trace: str = "t") -> dict[str, Any]:
    attributes = [
        {"key": "gen_ai.operation.name", "value": {"stringValue": "chat" if tokens else "invoke_workflow"}},
        {"key": "gen_ai.request.model", "value": {"stringValue": "gull-1"}},
        {"key": "gen_ai.usage.input_tokens", "value": {"intValue": str(tokens)}},
        {"key": "gen_ai.input.messages", "value": {"stringValue": "the whole prompt " * 50}},
    ]
    return {
        "traceId": trace, "spanId": id, "parentSpanId": parent, "name": name, "startTimeUnixNano": str(START), "endTimeUnixNano": str(START + HOUR),
        "attributes": attributes if tokens else attributes[:1], "status": {},
    }  # fmt: skip


def read_traces(path: Path, **keys: Any) -> UsageSums:
    return read_usage([str(path)], UsageMapping(form="otlp", **keys))


def test_traces_as_one_document_as_lines_and_packed(tmp_path: Path) -> None:
    spans = [
        written("c", "a", "Answer", 7),
        written("a", "", "Letters", 0),
        written("c", "a", "Answer", 5, "u"),
        written("a", "", "Letters", 0, "u"),
    ]
    whole, by_line, packed = tmp_path / "a.json", tmp_path / "a.jsonl", tmp_path / "a.json.gz"
    whole.write_text(json.dumps(document(spans), indent=1))
    # Spans of one trace stand on different lines.
    by_line.write_text("".join(json.dumps(document([one])) + "\n" for one in spans))
    packed.write_bytes(gzip.compress(whole.read_bytes()))
    for path in (whole, by_line, packed):
        found = read_traces(path)
        assert not found.problems
        assert sum(one.tokens_in or 0 for one in found.sums) == 12 and sum(one.calls or 0 for one in found.sums) == 2
        assert {one.flow for one in found.sums} == {"Letters"} and {one.environment for one in found.sums} == {"prod"}
        assert sum(found.runs.values()) == 2
        assert "tokens_out" not in found.columns and "gen_ai.input.messages" not in str(found)


def test_broken_lines_of_traces_are_told_and_the_rest_is_read(tmp_path: Path) -> None:
    path = tmp_path / "a.jsonl"
    good = json.dumps(document([written("c", "", "Answer", 7)]))
    wrong = document([written("d", "", "Answer", 7) | {"startTimeUnixNano": "soon"}])
    negative = document([written("e", "", "Answer", -4)])
    path.write_text(f'{good}\n{{"resourceSpans": [\n{json.dumps(wrong)}\n{json.dumps(negative)}\n')
    found = read_traces(path)
    assert sum(one.tokens_in or 0 for one in found.sums) == 7 and found.rejected == 2
    places = {one.origin.line for one in found.problems if one.origin is not None and one.code == "usage-line"}
    assert places == {2, 3}
    assert found.refused == {"tokens_in": 1}
    path.write_text('{"flows": []}')
    assert [one.code for one in read_traces(path).problems] == ["usage-unreadable"]
    path.write_text("no JSON\nat all")
    assert [one.code for one in read_traces(path).problems] == ["usage-unreadable"]


def test_attributes_of_spans_are_columns_that_a_mapping_may_name(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    path.write_text(json.dumps(document([written("c", "", "Answer", 7)])))
    found = read_traces(path, column={"feature": "gen_ai.operation.name", "host": ColumnRule(fixed="harbour")})
    assert {(one.feature, one.host) for one in found.sums} == {("chat", "harbour")}
    missing = read_traces(path, column={"feature": "no.such"})
    assert [one.code for one in missing.problems] == ["usage-column"]


LOG = """<?xml version="1.0" encoding="UTF-8"?>
<log xes.version="1849.2016" xmlns="http://www.xes-standard.org/">
  <global scope="event"><string key="concept:name" value="unknown"/></global>
  <string key="concept:name" value="Crew swap approvals"/>
  <trace>
    <string key="concept:name" value="run 1"/>
    <event><string key="concept:name" value="Ask"/><string key="lifecycle:transition" value="start"/><date key="time:timestamp" value="2026-10-02T08:00:00+02:00"/></event>
    <event><string key="concept:name" value="Ask"/><string key="lifecycle:transition" value="suspend"/><date key="time:timestamp" value="2026-10-02T08:01:00+02:00"/></event>
    <event><string key="concept:name" value="Ask"/><string key="lifecycle:transition" value="complete"/><date key="time:timestamp" value="2026-10-02T08:05:00+02:00"/>
      <float key="cost:total" value="0.25"/><string key="cost:currency" value="EUR"/></event>
    <event><string key="concept:name" value="Tell"/><date key="time:timestamp" value="2026-10-02T09:00:00+02:00"/></event>
  </trace>
  <trace>
    <string key="concept:name" value="run 2"/>
    <event><string key="concept:name" value="Ask"/><string key="lifecycle:transition" value="ate_abort"/><date key="time:timestamp" value="2026-10-03T08:00:00Z"/></event>
  </trace>
</log>
"""


def test_event_logs(tmp_path: Path) -> None:
    path, packed = tmp_path / "a.xes", tmp_path / "b.xes.gz"
    path.write_text(LOG)
    packed.write_bytes(gzip.compress(LOG.encode()))
    for one in (path, packed):
        found = read_usage([str(one)], UsageMapping(form="xes"))
        assert not found.problems
        kept = [row for row in found.sums if not row.passed]
        assert sum(row.lines for row in kept) == 3 and sum(row.lines for row in found.sums) == 4
        assert {row.flow for row in kept} == {"Crew swap approvals"} and {row.step for row in kept} == {"Ask", "Tell"}
        assert sum(row.duration or 0 for row in kept) == 300 and sum(row.failed for row in kept) == 1
        assert sum((row.cost or Decimal(0) for row in kept), Decimal(0)) == Decimal("0.25")
        assert sum(found.runs.values()) == 2
        assert all(row.calls is None for row in kept)  # the log names no models: nobody knows


@pytest.mark.parametrize(
    ("text", "code", "words"),
    [
        (LOG[:-60], "usage-line", "breaks off"),
        ("<html><body/></html>", "usage-unreadable", "an element 'html'"),
        ("no mark", "usage-unreadable", "Start tag expected"),
        (LOG.replace("+02:00", ""), "usage-line", "without a zone"),
        (LOG.replace("2026-10-03T08:00:00Z", "yesterday"), "usage-line", "'yesterday', which is none"),
    ],
)  # fmt: skip
def test_event_logs_that_are_wrong(text: str, code: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "a.xes"
    path.write_text(text)
    found = read_usage([str(path)], UsageMapping(form="xes"))
    assert found.problems[0].code == code and words in found.problems[0].message
    assert code == "usage-unreadable" or sum(one.lines for one in found.sums) >= 3


def test_event_logs_fetch_nothing_that_they_name(tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("open sesame")
    entity = f'<!DOCTYPE log [<!ENTITY x SYSTEM "file://{tmp_path / "secret"}">]>'
    path = tmp_path / "a.xes"
    path.write_text(
        LOG.replace("<log ", entity + "<log ", 1).replace(
            'value="Tell"/>', 'value="Tell"/><string key="k" value="v">&x;</string>'
        )
    )
    assert "sesame" not in str(list(EventReading(str(path)).lines()))


BILL = """BilledCost,BillingCurrency,ChargePeriodStart,ChargeCategory,SubAccountName,SkuMeter,ConsumedQuantity,ConsumedUnit,Tags
1.25,EUR,2026-10-01T00:00:00Z,Usage,harbour,gull-1 input tokens,12.5,1K tokens,"{""flow"": ""Letters""}"
-0.25,EUR,2026-10-01T00:00:00Z,Usage,harbour,gull-1 output tokens,1.5,1K tokens,"{""flow"": ""Letters""}"
0.38,EUR,2026-10-01T00:00:00Z,Tax,harbour,,,,
"""


def test_bills(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text(BILL)
    rule = ColumnRule(column="ConsumedQuantity", times=1000, where={"SkuMeter": ["GULL-1 input tokens"]})
    found = read_usage([str(path)], UsageMapping(form="focus", column={"flow": "Tags.flow", "tokens_in": rule}))
    assert not found.problems
    kept = [one for one in found.sums if not one.passed]
    assert (
        sum((one.cost or Decimal(0) for one in kept), Decimal(0)) == 1
        and sum(one.tokens_in or 0 for one in kept) == 12_500
    )
    assert {one.flow for one in kept} == {"Letters"} and {one.meter for one in kept} == {
        "gull-1 input tokens",
        "gull-1 output tokens",
    }
    assert all(one.calls is None for one in kept)
    # A bill without a currency has no cost that could be used.
    path.write_text("\n".join(line.replace(",EUR", "") for line in BILL.replace(",BillingCurrency", "").splitlines()))
    assert "cost" not in read_usage([str(path)], UsageMapping(form="focus")).columns


def test_proposed_for_standard_forms_and_reconciled_by_meter(run: Run, demo: Path) -> None:
    folder = demo
    text = BILL.replace("Letters", "Customer letters").replace("gull-1", "fulmar-mini-2")
    (folder / "bill.csv").write_text(text)
    made = run("usage", "suggest", "bill.csv", "-o", "bill.toml", cwd=folder)
    assert made.code == 0, made.err
    proposed = (folder / "bill.toml").read_text()
    assert 'form = "focus"' in proposed and 'flow = "Tags.flow"' in proposed
    assert (
        'tokens_in = { column = "ConsumedQuantity", times = 1000, where = { "SkuMeter" = ["fulmar-mini-2 input tokens"] } }'
        in proposed
    )
    result = run("reconcile", "--mapping", "bill.toml", "--by", "meter", "--format", "json", cwd=folder)
    assert result.code == 0, result.err
    told = json.loads(result.out)
    assert {gap["subject"]: gap["logged_calls"] for gap in told["groups"]} == dict.fromkeys(
        ["fulmar-mini-2 input tokens", "fulmar-mini-2 output tokens"]
    )
    assert any(one["code"] == "cost-differs" and one["subject"] == "Customer letters" for one in told["explanations"])
    assert Decimal(told["unexplained"]) == 0
    (folder / "t.json").write_text(
        json.dumps(document([written("c", "a", "Answer", 7), written("a", "", "Customer letters", 0)]))
    )
    made = run("usage", "suggest", "t.json", "-o", "t.toml", cwd=folder)
    assert 'form = "otlp"' in (folder / "t.toml").read_text(), made.err
    tried = run("usage", "test", "--mapping", "t.toml", "--names", "--format", "json", cwd=folder)
    assert '"Customer letters"' in tried.out and tried.code == 0


def test_what_a_mapping_says_of_lines_comes_before_its_form(tmp_path: Path) -> None:
    path = tmp_path / "a.xes"
    path.write_text(LOG)
    found = read_usage([str(path)], UsageMapping(form="xes", line="call"))
    assert sum(one.calls or 0 for one in found.sums if not one.passed) == 3
    assert read_usage([str(path)], UsageMapping(form="xes")).mapping.stands_for == "step"
    assert UsageMapping().stands_for == "call"


@pytest.mark.parametrize(
    ("unit", "times"),
    [("1K tokens", 1000), ("1M Tokens", 1_000_000), ("Tokens", 1), ("", None), ("10K tokens", None), ("week of tokens", None), ("calls", None)],
)  # fmt: skip
def test_units_of_a_bill_are_read_or_left_open(unit: str, times: float | None, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(BILL.replace("1K tokens", unit))
    made = propose_standard(
        sample_log(str(tmp_path / "a.csv")), "focus", {name: Names({}) for name in ("flow", "step", "model")}
    )
    rule = made.mapping.column.get("tokens_in")
    assert (rule.times if isinstance(rule, ColumnRule) else rule) == times
    assert (times is not None) != any("in a unit that nothing says" in text for text in made.remarks)


def test_cached_tokens_of_a_bill_are_tokens_of_prompts_too(tmp_path: Path) -> None:
    line = BILL.splitlines()[1].replace("gull-1 input", "gull-1 cached input")
    (tmp_path / "a.csv").write_text(f"{BILL}{line}\n")
    made = propose_standard(
        sample_log(str(tmp_path / "a.csv")), "focus", {name: Names({}) for name in ("flow", "step", "model")}
    )
    whole, part = made.mapping.column["tokens_in"], made.mapping.column["tokens_cached"]
    assert isinstance(whole, ColumnRule) and isinstance(part, ColumnRule)
    assert set(whole.where["SkuMeter"]) == {"gull-1 input tokens", "gull-1 cached input tokens"}
    assert part.where["SkuMeter"] == ["gull-1 cached input tokens"]
