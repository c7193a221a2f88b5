# ruff: noqa: E501  (cases are easier to compare side by side)
"""A second look at every check: another way in which it is right, and another in which it must not speak."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec import structs

from test_checks import AGENT, ATTACHED, CASES, HOURLY, PAYS, REST, case, flow, given, sorting, step, takes
from test_more_checks import FILLS, LONG, MORE, asks, clock, found_in, path
from zeitbuch.core.model.records import (
    Approval,
    Connection,
    Flow,
    Link,
    ModelUse,
    Pieces,
    Ref,
    Repeat,
    Retry,
    Secret,
    Step,
    Trigger,
    Variable,
)

OPEN = (Trigger(id="t", kind="webhook", authentication="None"),)
ASKS = "Answer emergency, routine or notours."
BRANCH = (
    *path("t", "d"),
    Link(source="d", target="x", role="case", label="a"),
    Link(source="d", target="y", role="case", label="b"),
)


def block_again(
    row: tuple[str, ...],
    tries: int = 1,
    key: str = "text",
    kind: str = "http",
    around: str = "guard",
    also: tuple[Step, ...] = (),
    ways: tuple[Link, ...] = (),
    **more: Any,
) -> Flow:
    """A block that is tried again, in it an act and another step, in a row, side by side, or as ``ways`` lead."""
    inside = [
        step("a", "send", effect="send", scope="g", inputs=(given(key, "x"),)),
        step("b", kind, scope="g", **more),
        *also,
    ]
    links = (*path("t", "g"), *(path(*row) if row else ()), *ways)
    return flow(step("g", around, retry=Retry(attempts=tries)), *inside, links=links)


_EITHER = (
    Link(source="d", target="a", role="case", label="a"),
    Link(source="d", target="b", role="case", label="b"),
)


# code -> one more flow that has the fault, one more that has not
SECOND: dict[str, tuple[list[Flow], list[Flow]]] = {
    "empty-role": ([flow(step("a", effect="spend", inputs=(given("sum", "", role="amount"),)))], [flow(step("a", effect="spend", inputs=(given("sum", 0, role="amount"),)))]),
    "test-recipient": ([flow(step("a", "send", effect="send", inputs=(given("cc", "Jane.Doe@ferry.example"),)))], []),
    "step-unreached": ([flow(step("a"), step("b"), step("c"), links=path("t", "a"))], [flow(step("a"), step("n", "note"), links=path("t", "a"))]),
    "join-unmet": (
        [flow(step("a"), step("b"), step("j", join="all"), triggers=(Trigger(id="t", kind="form"), Trigger(id="u", kind="manual")),
              links=(*path("t", "a", "j"), *path("u", "b", "j")))],
        [flow(step("a"), step("b"), step("j", join="all"), links=(*path("t", "a", "j"), *path("t", "b", "j")))],
    ),
    "end-goes-on": (
        [flow(step("e", "end", ends="run"), step("b"), links=(*path("t", "e"), Link(source="e", target="b", role="error")))],
        [flow(step("e", "end", enabled=False), step("b"), links=path("t", "e", "b")), flow(step("e", "end"), step("b", enabled=False), links=path("t", "e", "b"))],
    ),
    "source-off": ([flow(step("a", enabled=False), step("d", "decide", refs=(Ref(step="a", path="x"),)))], []),
    "connection-unused": (
        [flow(step("a", connection="c", enabled=False), step("b"), connections=(Connection(id="d"),))],
        [flow(step("a"), triggers=(Trigger(id="t", kind="polling", connection="c"),), connections=(Connection(id="c"),))],
    ),
    "variable-unused": (
        [flow(step("a", condition="spend_cap_2 > 3"), variables=(Variable(name="spend_cap", value=1),))],
        [flow(step("a", inputs=(given("x", "{v}", refs=(Ref(variable="v"),)),)), variables=(Variable(name="v", value=1),))],
    ),
    "default-name": ([flow(step("a"), name="Refunds copy 2")], []),
    "label-not-asked": ([sorting("One of: in time, late.", case("x", "late"), case("y", "cancelled"), REST)], []),
    "case-rest-missing": ([sorting("Say late or gone.", case("x", "", condition="{m.text} == 'late'"), case("y", "", condition="{m.text} == 'gone'"))], []),
    "failure-unhandled": ([flow(step("r", "read", effect="read"), step("a", "delete", effect="delete"), triggers=(Trigger(id="t", kind="event", event="x"),))], []),
    "failure-ignored": ([flow(step("a", on_fault="continue"), step("l", "loop", repeat=Repeat(items="{a.rows}", refs=(Ref(step="a", path="rows"),))))], []),
    "act-repeated": (
        [flow(step("a", "send", effect="send", retry=Retry(attempts=1))), block_again(("a", "b")), block_again(())],
        [
            block_again((), also=(step("d", "decide", scope="g"),), ways=_EITHER), block_again((), ways=(Link(source="a", target="b", role="error"),)),
            block_again(("c", "b"), also=(step("c", scope="g"),), ways=(Link(source="a", target="c", role="error"),)),
            block_again(("b", "a")), block_again(("a", "b"), on_fault="continue"), block_again(("a", "b"), enabled=False), block_again(("a", "b"), tries=0),
            block_again(("a", "b"), key="request_id"), block_again(("a", "b"), kind="end"), block_again(("a", "b"), around="loop"),
        ],
    ),
    "approval-by-silence": ([flow(step("a", "approve", timeout=60.0), step("p", effect="spend"), links=(*path("t", "a", "p"), Link(source="a", target="p", after=("timeout",))))], []),
    "approval-endless": ([flow(step("b"), step("a", "approve", approval=Approval(approvers=("x",), silence="waits")))], []),
    "step-missing": ([flow(asks("Sum up {old.text}", "m", Ref(step="old", path="text", text="{old.text}")))], []),
    "step-never-before": (
        [flow(step("d", "decide"), step("x"), step("y", inputs=(takes("x"),)), links=BRANCH)],
        [flow(step("d", "decide"), step("x", inputs=(takes("d"),)), step("y"), links=BRANCH)],
    ),
    "flow-missing": ([flow(AGENT, step("p", "tool", calls="gone"), links=ATTACHED)], [flow(step("a", "subflow", calls="gone", enabled=False))]),
    "flow-calls-itself": (
        [flow(step("b"), step("a", "subflow", calls="Refunds"))],
        [flow(step("a", "subflow", calls="f", condition="{t.more}"))],
    ),
    "agent-acts-alone": ([flow(AGENT, structs.replace(PAYS, effect="delete"), links=ATTACHED, triggers=HOURLY)], []),
    "model-decides-target": ([flow(AGENT, structs.replace(PAYS, effect="send", inputs=(given("to", None, decided="model", role="recipient"),)), links=ATTACHED)], []),
    "webhook-open": ([flow(asks("Hi"), triggers=OPEN)], []),
    "secret-in-clear": ([flow(step("a"), secrets=(Secret(name="secret A"), Secret(name="secret B")))], [flow(step("a", inputs=(given("key", "{vault.key}"),)))]),
    "label-temperature": ([flow(asks("Is it late?", temperature=0.5, task="label"))], []),
    "pieces-overlap": ([flow(step("a", "embed", pieces=Pieces(size=100, overlap=300)))], []),
    "loop-endless": ([flow(step("b"), step("a", "loop", repeat=Repeat(until="{b.x} > 3", refs=(Ref(step="b", path="x"),))))], []),
    "owner-missing": ([flow(step("a"), owners=(), state="on")], []),
    "zone-missing": ([flow(step("a"), triggers=clock(cron="0 0 6,18 * * *"))], []),
    "models-asked-alike": ([flow(step("p", "parallel"), asks("Sum up the day", "m", scope="p"), asks("Sum up the day", "n", name="other", scope="p"), links=(*path("t", "p"), *path("p", "m"), *path("p", "n")))], []),
    "step-sometimes-before": ([flow(step("d", "decide"), step("x"), step("y"), step("z", inputs=(takes("y"),)), links=(*BRANCH, *path("x", "z"), *path("y", "z")))], []),
    "embedding-differs": ([flow(FILLS, step("r", "retrieve", model=ModelUse(name="large"), inputs=(given("index", "shelf"),)))], []),
    "memory-endless": ([flow(AGENT, step("p", "memory", inputs=(given("window", ""),)), links=ATTACHED)], []),
    "json-for-nobody": ([flow(asks("Answer in JSON with the fields ship and day."), step("a", "write", effect="write", inputs=(structs.replace(takes("m"), refs=(Ref(step="m", path="content"),)),)))], []),
    "prompts-nearly-equal": ([flow(asks(f"{LONG} Oslo and Bergen"), asks(f"{LONG} Oslo and, later, Bergen".replace(" later,", ""), "n"))], []),
    "description-missing": ([flow(step("a"), description="")], []),
    "operation-foreign": ([flow(step("a", operation="dock"), format="harbour")], []),
    "flow-stale": ([flow(step("e", "agent", model=ModelUse(name="m", max_turns=2)), changed="2025-01-01")], []),
    "sample-data": ([flow(step("b"), asks("Hi", sample=True))], []),
    "answer-unused": ([flow(step("r", "read", effect="read"), step("a", inputs=(takes("r"),)), step("e", "embed"), triggers=(Trigger(id="t", kind="event"),))], []),
    "copy-edit-missed": ([flow(step("b"), step("a"), id="copy")], [flow(step("a"), id="original")]),
    "approver-left": ([flow(step("a", "approve", approval=Approval(approvers=("Maren Dahl", "ola tveit"))))], []),
    **dict.fromkeys(
        ("case-never-taken", "step-never-run", "model-not-named", "log-newer"),
        ([flow(step("b"), id="seen")], [flow(step("b"), id="other")]),
    ),
    "flows-alike": ([flow(step("b"), id="twin")], [flow(step("b"), id="other")]),
}  # fmt: skip
# Checks whose cases need several flows, a rate card or a day stand in tests of their own.
ELSEWHERE = {
    "flow-off", "model-unpriced", "model-retired", "prompt-beyond-context", "owner-alone", "flows-call-each-other", "handler-missing", "same-minute", "status-words-differ",
}  # fmt: skip


def test_every_check_has_two_of_each() -> None:
    for code, (wrong, right) in (CASES | MORE).items():
        more = SECOND.get(code, ([], []))
        if code not in ELSEWHERE:
            assert len(wrong) + len(more[0]) >= 2 and len(right) + len(more[1]) >= 2, code


@pytest.mark.parametrize("code", SECOND)
def test_the_second_case(code: str) -> None:
    wrong, right = SECOND[code]
    for one in wrong:
        assert code in found_in(one), found_in(one)
    for one in right:
        assert code not in found_in(one)
