"""Flows of any shape for hypothesis: cycles, fan-outs, joins of every kind, status links, triggers, items, scopes in scopes."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st
from msgspec import structs

from builders import START, flow
from trees import OTHER
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.model.records import Flow, Link, LinkRole, Repeat, Retry, Step

FLAT = ["http", "http", "decide", "shape", "loop", "http", "decide", "approve", "end"]
SCOPES = ["group", "guard", "parallel", "loop"]
AFTER = [(), (), (), (), ("success",), ("failure",), ("timeout", "failure"), ("skip",)]

# What a loop does when an item fails, and how many run at a time.
_STOPS = Repeat(items="letters", on_item_fault="stop")
ENDINGS: list[dict[str, Any]] = [{}, {}, {"repeat": _STOPS}, {"repeat": _STOPS, "concurrency": 2}]


class Drawn:
    """A flow with its assumptions, shown in a few lines."""

    def __init__(self, f: Flow, rules: list[Rule]) -> None:
        self.flow, self.rules = f, rules

    def __repr__(self) -> str:
        lines = []
        for s in self.flow.steps:
            said = {q: v for r in self.rules if r.step == s.id and not r.case for q, v in r.given_quantities() if v}
            flags = [
                w for w, on in (("inclusive", s.inclusive), ("off", not s.enabled), ("per item", s.per_item)) if on
            ]
            flags += [f"in {s.scope}"] if s.scope else []
            tries = s.retry.attempts if s.retry else 0
            lines.append(f"{s.id} {s.kind} {s.join} {s.on_fault} +{tries} {s.yields} {flags} {said}")
        lines += [f"{k.source} -> {k.target} {k.role} {k.after}" for k in self.flow.links]
        return "\n".join(lines)


class Level:
    """The steps of one level with their links and assumptions, and those of the scopes within it."""

    def __init__(self, prefix: str, scope: str | None, often: bool = False, alone: bool = False) -> None:
        """``often``: its steps fail often. ``alone``: no branches meet, nothing goes back, no step runs out of time."""
        self.prefix, self.scope, self.alone = prefix, scope, alone
        self.failures = (0.0, 0.3, 0.3, 0.5) if often else (0.0, 0.0, 0.3)
        self.steps: list[Step] = []
        self.own: list[Step] = []
        self.links: list[Link] = []
        self.rules: list[Rule] = []

    def add_step(self, draw: st.DrawFn, itemised: bool, kinds: list[str]) -> Step:
        name = f"{self.prefix}{len(self.own)}"
        more: dict[str, Any] = {}
        tries = draw(st.integers(0, 2))
        if itemised:
            more = {"per_item": draw(st.booleans()), "yields": draw(st.sampled_from(["same", "same", "many", "one"]))}
        made = Step(
            id=name, kind=draw(st.sampled_from(kinds)), scope=self.scope,  # type: ignore[arg-type]
            join=draw(st.sampled_from([None, None, None, None, "each", "all", "once"])),  # type: ignore[arg-type]
            retry=Retry(attempts=tries) if tries else None,
            on_fault=draw(st.sampled_from(["stop", "stop", "continue"])),  # type: ignore[arg-type]
            ends=draw(st.sampled_from(["branch", "run"])),  # type: ignore[arg-type]
            enabled=draw(st.integers(0, 9)) > 0, inclusive=draw(st.integers(0, 3)) == 0, **more,
        )  # fmt: skip
        if made.kind == "loop":
            made = structs.replace(made, **draw(st.sampled_from(ENDINGS)))
        self.own.append(made)
        self.steps.append(made)
        self.rules += [
            Rule(
                step=name,
                failure=draw(st.sampled_from(self.failures)),
                timeout=0.0 if self.alone else draw(st.sampled_from([0.0, 0.0, 0.2])),
            ),
            Rule(step=name, items=draw(st.sampled_from([0.5, 1.0, 2.0, 3.0]))),
        ]
        return made

    @staticmethod
    def _draw_role(draw: st.DrawFn, source: Step) -> LinkRole:
        if source.kind in ("decide", "approve"):
            return "case"
        return draw(st.sampled_from(["next", "next", "next", "error"]))  # type: ignore[arg-type]

    def link_steps(self, draw: st.DrawFn) -> None:
        for i in range(1, len(self.own)):
            before = st.lists(
                st.integers(max(0, i - 3), i - 1),
                min_size=0 if self.scope else 1,
                max_size=1 if self.alone else 2,
                unique=True,
            )
            for b in draw(before):
                self.links.append(
                    Link(
                        source=self.own[b].id,
                        target=self.own[i].id,
                        role=self._draw_role(draw, self.own[b]),
                        label=f"c{i}",
                        after=draw(st.sampled_from(AFTER)),  # type: ignore[arg-type]
                    )
                )
        if not self.alone and draw(st.booleans()):
            last = self.own[draw(st.integers(0, len(self.own) - 1))]
            first = self.own[draw(st.integers(0, self.own.index(last)))]
            if last.kind == "decide" and not last.inclusive:
                self.links.append(Link(source=last.id, target=first.id, role="case", label="back"))
                self.rules.append(Rule(step=last.id, case="back", share=0.25))


def _fill_level(draw: st.DrawFn, level: Level, count: int, itemised: bool, depth: int) -> None:
    for _ in range(count):
        deeper = depth > 0 and draw(st.integers(0, 3)) == 0
        made = level.add_step(draw, itemised, SCOPES if deeper else FLAT)
        if deeper:
            inner = Level(f"{made.id}_", made.id, alone=level.alone)
            _fill_level(draw, inner, draw(st.integers(1, 4)), itemised, depth - 1)
            level.steps += inner.steps
            level.links += inner.links
            level.rules += inner.rules
    level.link_steps(draw)


@st.composite
def any_flows(draw: st.DrawFn) -> Drawn:
    """Flows with their assumptions."""
    top = Level("s", None)
    count = draw(st.integers(3, 9))
    itemised = draw(st.integers(0, 3)) == 0
    _fill_level(draw, top, count, itemised, draw(st.sampled_from([0, 0, 1, 2])))
    links = [Link(source=START.id, target="s0")]
    begun = st.lists(st.integers(0, min(4, count - 1)), max_size=2, unique=True)
    links += [Link(source=START.id, target=f"s{i}") for i in draw(begun) if i]
    links += [Link(source=OTHER.id, target=f"s{i}") for i in draw(begun)]
    return Drawn(structs.replace(flow(top.steps, [*links, *top.links]), triggers=(START, OTHER)), top.rules)


@st.composite
def any_scopes(draw: st.DrawFn, alone: bool = False) -> Drawn:
    """A scope in which steps often fail and take ways of their own, what comes after it, and what takes its failures; once, or in a loop.
    ``alone``: without items, and see ``Level``."""
    inner = Level("a", "g", often=True, alone=alone)
    itemised = not alone and draw(st.integers(0, 3)) == 0
    _fill_level(draw, inner, draw(st.integers(2, 5)), itemised, draw(st.sampled_from([0, 0, 0, 1])))
    around = draw(st.sampled_from([None, None, "l"]))
    own = [Step(id=name, kind="http", scope=around) for name in ("z", "x")]
    own.append(Step(id="g", kind=draw(st.sampled_from(["group", "guard", "parallel"])), scope=around))  # type: ignore[arg-type]
    links = [Link(source=START.id, target=around or "g"), Link(source="g", target="z")]
    links += [Link(source="g", target="x", role="error")] * draw(st.integers(0, 1))
    loops = [structs.replace(Step(id="l", kind="loop"), **draw(st.sampled_from(ENDINGS)))] if around else []
    made = flow([*loops, *own, *inner.steps], [*links, *inner.links])
    return Drawn(made, [*inner.rules, Rule(step="l", items=3.0)])
