"""Small flows for tests, and random ones for hypothesis."""

from __future__ import annotations

import itertools
from typing import Any

from hypothesis import strategies as st

from zeitbuch.core.model.records import (
    Approval,
    Binding,
    Flow,
    Link,
    ModelUse,
    Pause,
    Pieces,
    Prompt,
    Ref,
    Repeat,
    Retry,
    Schedule,
    Step,
    Trigger,
)

START = Trigger(id="start", kind="manual")


def step(step_id: str, kind: Any = "shape", **more: Any) -> Step:
    return Step(id=step_id, kind=kind, name=more.pop("name", step_id.title()), **more)


def ask(step_id: str, text: str = "Answer.", name: str = "fulmar-mini-2", **more: Any) -> Step:
    use = ModelUse(
        name=name,
        prompts=(Prompt(text=text),),
        **{k: more.pop(k) for k in list(more) if k in ("task", "max_output", "max_turns")},
    )
    return step(step_id, more.pop("kind", "model"), model=use, **more)


def link(source: str, target: str, role: Any = "next", label: str = "", **more: Any) -> Link:
    return Link(source=source, target=target, role=role, label=label, **more)


def flow(steps: list[Step], links: list[Link], **more: Any) -> Flow:
    return Flow(
        id=more.pop("id", "f"),
        name=more.pop("name", "Flow"),
        triggers=more.pop("triggers", (START,)),
        steps=tuple(steps),
        links=tuple(links),
        **more,
    )


def chain(*steps: Step, **more: Any) -> Flow:
    """Steps one after the other."""
    ids = ["start", *[s.id for s in steps]]
    return flow(list(steps), [link(a, b) for a, b in itertools.pairwise(ids)], **more)


TEXT = st.text(st.characters(blacklist_categories=("Cs",)), max_size=20)
SCALAR = (
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.floats(allow_nan=False, allow_infinity=False) | TEXT
)
VALUE = st.recursive(SCALAR, lambda v: st.lists(v, max_size=3) | st.dictionaries(TEXT, v, max_size=3), max_leaves=6)
REF = st.builds(Ref, step=st.none() | st.sampled_from("abc"), path=TEXT, text=TEXT)
STEP_PARTS = {
    "name": TEXT,
    "operation": TEXT,
    "effect": st.sampled_from(["none", "read", "write", "send", "delete", "spend"]),
    "inputs": st.lists(
        st.builds(
            Binding,
            name=TEXT,
            value=VALUE,
            role=st.sampled_from([None, "recipient", "amount"]),
            secured=st.booleans(),
            refs=st.lists(REF, max_size=2).map(tuple),
        ),
        max_size=2,
    ).map(tuple),
    "retry": st.none() | st.builds(Retry, attempts=st.integers(1, 5), wait=st.none() | st.floats(0, 99)),
    "repeat": st.none() | st.builds(Repeat, items=st.none() | TEXT, count=st.none() | st.integers(0, 9)),
    "model": st.none()
    | st.builds(ModelUse, name=st.none() | TEXT, prompts=st.lists(st.builds(Prompt, text=TEXT), max_size=2).map(tuple)),
    "approval": st.none()
    | st.builds(
        Approval,
        approvers=st.lists(TEXT, max_size=2).map(tuple),
        needed=st.none() | st.integers(1, 3),
        silence=st.sampled_from([None, "approves", "rejects", "escalates", "waits"]),
    ),
    "pause": st.none() | st.builds(Pause, seconds=st.none() | st.floats(0, 99), until=st.none() | TEXT),
    "pieces": st.none()
    | st.builds(
        Pieces,
        size=st.none() | st.integers(1, 999),
        unit=st.sampled_from([None, "tokens", "letters"]),
        store=st.none() | TEXT,
    ),
    "concurrency": st.none() | st.integers(1, 9),
    "ordered": st.booleans(),
    "awaits": st.none() | st.booleans(),
    "position": st.none() | st.tuples(st.floats(-9, 9), st.floats(-9, 9)),
    "unread": st.dictionaries(TEXT, VALUE, max_size=2),
}


@st.composite
def flows(draw: st.DrawFn, most: int = 7) -> Flow:
    """Flows with any contents, for round trips."""
    ids = [f"s{i}" for i in range(draw(st.integers(1, most)))]
    kinds = st.sampled_from(["model", "agent", "decide", "loop", "http", "read", "write", "send", "other", "end"])
    steps = [draw(st.builds(Step, id=st.just(i), kind=kinds, **STEP_PARTS)) for i in ids]
    ends = st.sampled_from(ids)
    roles = st.sampled_from(["next", "case", "error"])
    links = draw(
        st.lists(st.builds(Link, source=ends, target=ends, role=roles, label=TEXT, condition=TEXT), max_size=8)
    )
    schedule = st.builds(Schedule, cron=st.just("5 4 * * *"), zone=st.just("Europe/Oslo"))
    trigger = Trigger(id="t", kind="schedule", schedule=draw(st.none() | schedule), name=draw(TEXT))
    return Flow(
        id="f",
        name=draw(TEXT),
        owners=tuple(draw(st.lists(TEXT, max_size=2))),
        triggers=(trigger,),
        steps=tuple(steps),
        links=tuple(links),
    )


@st.composite
def drawn_flows(draw: st.DrawFn) -> Flow:
    """Flows with scopes, cycles, fan-outs, cases, error routes and attachments, for maps."""
    names = st.text(st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters="…"), min_size=1, max_size=60)
    steps: list[Step] = []
    links: list[Link] = []
    scopes: list[str | None] = [None]
    for i in range(draw(st.integers(2, 14))):
        kind = draw(
            st.sampled_from(["model", "agent", "decide", "loop", "guard", "parallel", "send", "shape", "other"])
        )
        scope = draw(st.sampled_from(scopes))
        use = ModelUse(name=draw(names)) if kind in ("model", "agent") else None
        steps.append(Step(id=f"s{i}", kind=kind, name=draw(names), scope=scope, model=use))  # type: ignore[arg-type]
        if kind in ("loop", "guard", "parallel") and draw(st.booleans()):
            scopes.append(f"s{i}")
        if kind == "agent" and draw(st.booleans()):
            steps.append(Step(id=f"t{i}", kind="tool", name=draw(names), effect="spend", scope=scope))
            links.append(Link(source=f"t{i}", target=f"s{i}", role="attach"))
    ids = [s.id for s in steps if not s.id.startswith("t")]
    for _ in range(draw(st.integers(1, 22))):
        a, b = draw(st.sampled_from(ids)), draw(st.sampled_from(ids))
        role = draw(st.sampled_from(["next", "next", "case", "error"]))
        label = draw(names) if role == "case" else ""
        links.append(Link(source=a, target=b, role=role, label=label))  # type: ignore[arg-type]
    links.append(Link(source="start", target=ids[0]))
    return Flow(id="f", name=draw(names), triggers=(START,), steps=tuple(steps), links=tuple(links))
