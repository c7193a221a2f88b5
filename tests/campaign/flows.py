"""Made-up flows, before any builder has written them down."""

from __future__ import annotations

import random
import uuid
from dataclasses import dataclass, field
from typing import Any, Literal

from .facts import FactMaker
from .values import ValueMaker
from .words import CLOCKS_IN_WORDS, SWITCH_WORDS, Language

AI = ("model", "agent")
PLAIN = ("model", "model", "http", "send", "read", "write", "shape", "code", "wait", "approve", "delete")
Role = Literal["next", "case", "error"]


@dataclass
class Box:
    """One step. ``ways`` are the cases of a decision, ``rescue`` what runs after a failure, ``body`` the inside of a loop."""

    kind: str
    name: str
    id: Any
    settings: dict[str, Any]
    off: bool = False
    prompts: list[str] = field(default_factory=list)
    model: str = ""
    ways: list[tuple[str, list[Box]]] = field(default_factory=list)
    rescue: list[Box] = field(default_factory=list)
    body: list[Box] = field(default_factory=list)
    fields: dict[str, Any] = field(default_factory=dict)  # beside the settings
    facts: dict[str, Any] = field(default_factory=dict)


@dataclass
class Drawn:
    """One flow: what sets it off, its steps in nested order, and its arrows (None: the start)."""

    name: str
    id: str
    state: str
    trigger: Box
    schedule: str
    body: list[Box]
    every: list[Box] = field(default_factory=list)
    switch: str = ""
    spelled: tuple[object, object] = (True, False)  # on, off
    handler: str = ""
    arrows: list[tuple[Box, Box, Role, str]] = field(default_factory=list)
    head: dict[str, Any] = field(default_factory=dict)  # beside its name and state


class FlowMaker:
    """Draws the flows of one builder. ``nested``: loops hold their steps, and ways meet again."""

    def __init__(self, language: Language, nested: bool, trigger_apart: bool) -> None:
        self.words, self.draw, self.nested, self.apart = language, language.draw, nested, trigger_apart
        self.ids = self.draw.choice(("number", "uuid", "slug", "letters"))
        self.chat = self.draw.random() < 0.25
        self.switch = self.draw.choice(("off", "on", ""))  # how a step is switched off, if at all
        self.clock = self.draw.choice(("cron", "cron", "interval", "weekdays", "minutes", "number"))
        self.counts_in = self.draw.choice((60, 60, 3600))  # seconds that a number without a unit means to this builder
        self.count = 0
        seed = f"{self.ids}/{self.chat}/{self.clock}/{language.open}/{language.draw.getstate()[1][:3]}"
        self.odds = random.Random(f"clock/{seed}")  # a stream of its own, so that other draws stay as they are
        self.said_times = self.odds.random() < 0.15
        self.facts = FactMaker(language, seed)
        self.values = ValueMaker(language, seed)
        self.spelled = random.Random(f"switch/{seed}").choice(SWITCH_WORDS[language.traits.fitted])

    def draw_flow(self, at: int, small: bool) -> Drawn:
        """One flow with a trigger and its steps."""
        if self.ids == "letters":
            self.count = 0
        kind = self.draw.choice(("schedule", "schedule", "webhook", "form", "polling", "manual", "event"))
        trigger = self._box(kind)
        trigger.settings, schedule = self._trigger_settings(kind)
        body = self._sequence(1 if small else self.draw.randrange(4, 9), 1, [])
        state = self.draw.choice(("on", "on", "draft" if self.words.states[1] == "draft" else "off"))
        if kind == "schedule" and self.said_times:
            trigger.settings, schedule = self._clock_in_words()
        made = Drawn(
            self.words.title(), f"{self.draw.choice(self.words.nouns)}-{at + 1:02d}", state, trigger, schedule, body
        )
        self._walk(made, body, [(trigger, "next", "")])
        self.values.move_models(made)
        return made

    def _clock_in_words(self) -> tuple[dict[str, Any], str]:
        if not self.words.has_key("said when"):
            self.words.add_key("said when", self.odds)
        text, schedule = self.odds.choice(CLOCKS_IN_WORDS[self.words.traits.fitted])
        return {self.words.key("said when"): text}, schedule

    def _box(self, kind: str) -> Box:
        self.count += 1
        made: Any = {
            "number": self.count + 100,
            "letters": f"s{self.count}",
            "slug": f"{self.draw.choice(self.words.nouns)}_{self.count}",
        }.get(self.ids)
        return Box(kind, self.words.title(), made or str(uuid.UUID(int=self.draw.getrandbits(128))), {})

    def _trigger_settings(self, kind: str) -> tuple[dict[str, Any], str]:
        draw, key = self.draw, self.words.key
        if kind == "schedule":
            if self.clock == "cron":
                cron = draw.choice(("0 6 * * *", "*/15 * * * *", "30 7 * * 1-5", "0 9 1 * *"))
                return {key("cron"): cron, key("zone"): "Europe/Oslo"}, cron
            if self.clock == "interval":
                number, unit, seconds = draw.choice(((15, "minutes", 60), (2, "hours", 3600), (1, "days", 86400)))
                return {key("every"): number, key("unit"): unit}, f"every {number * seconds}"
            if self.clock == "minutes":
                return {key("minutes"): 15}, "every 900"
            if self.clock == "number":
                return {key("every"): 2}, f"every {2 * self.counts_in}"
            days = draw.choice((["mon"], ["mon", "wed", "fri"]))
            return {key("days"): days, key("at"): "08:30", key("zone"): "Europe/Oslo"}, "30 8 * * " + ",".join(
                str("sun mon tue wed thu fri sat".split().index(d)) for d in days
            )
        if kind == "polling":
            return {key("every"): 5, key("unit"): "minutes", key("table"): "inbox"}, "every 300"
        given = {
            "webhook": {key("path"): "/in/" + draw.choice(self.words.nouns)},
            "form": {key("form"): draw.choice(self.words.nouns)},
            "event": {key("event"): "harbour.notices"},
        }
        return given.get(kind, {}), ""

    def _sequence(self, size: int, depth: int, before: list[Box]) -> list[Box]:
        made: list[Box] = []
        for _ in range(size):
            roll = self.draw.random()
            kind = (
                "agent"
                if roll < 0.07 and self.words.traits.words
                else "decide"
                if roll < 0.24 and depth
                else "loop"
                if roll < 0.3 and depth and self.nested
                else self.draw.choice(PLAIN)
            )
            box = self._box(kind)
            self._fill(box, before + made)
            self.facts.add_facts(box)
            if before or made:
                refs = [f"{self.words.open}{b.id}.{self.words.key('output')}{self.words.close}" for b in before + made]
                self.facts.add_conditions(box, refs)
                self.facts.add_rounds(box, refs)
            if kind == "decide":
                box.ways = [
                    (f"{word}", self._sequence(1, depth - 1, before + made))
                    for word in self.draw.choice((("yes", "no"), ("low", "middle", "high")))
                ]
            elif kind == "loop":
                box.body = self._sequence(2, depth - 1, before + made)
            elif kind in ("http", "write", "send") and depth and self.draw.random() < 0.2:
                box.rescue = self._sequence(1, 0, before)
            box.off = bool(self.switch) and kind not in ("decide", "loop") and self.draw.random() < 0.12
            made.append(box)
        return made

    def _fill(self, box: Box, before: list[Box]) -> None:
        words, draw, key = self.words, self.draw, self.words.key
        refs = [
            f"{words.open}{b.id}.{key('output')}{words.close}" for b in draw.sample(before, min(2, len(before)))
        ] or ["what came in"]
        refs = [*refs, refs[0]]
        if box.kind in AI:
            box.model, box.prompts = (
                draw.choice(words.models),
                [draw.choice(words.prompts), draw.choice(words.talk).format(*refs)],
            )
            if self.chat:
                box.settings = {
                    key("model"): box.model,
                    key("talk"): [
                        {key("role"): r, key("said"): p} for r, p in zip(("system", "user"), box.prompts, strict=True)
                    ],
                }
            else:
                box.settings = {
                    key("model"): box.model,
                    key("system"): box.prompts[0],
                    key("user"): box.prompts[1],
                    key("heat"): draw.choice((0.2, 0.7)),
                }
            return
        box.settings = {
            "http": {
                key("url"): "https://desk.example/v1/" + draw.choice(words.nouns),
                key("method"): draw.choice(("GET", "POST")),
            },
            "send": {
                key("to whom"): draw.choice(("crew@ferry.example", "office@ferry.example")),
                key("text"): f"News about {refs[0]}",
            },
            "read": {key("table"): draw.choice(words.nouns), key("query"): f"id = {refs[0]}"},
            "write": {key("table"): draw.choice(words.nouns), key("text"): refs[0]},
            "delete": {key("table"): draw.choice(words.nouns), key("query"): refs[0]},
            "decide": {key("test"): f"{refs[0]} > 3"},
            "loop": {key("over"): refs[0]},
            "wait": {key("long"): draw.randrange(5, 90)},
            "approve": {key("who"): draw.choice(("duty officer", "purser"))},
            "code": {key("code"): "rows = [r for r in rows if r['open']]\nreturn rows"},
            "shape": {key("text"): f"{refs[0]} and {refs[1]}", key("size"): draw.randrange(3, 40)},
        }[box.kind]

    def _walk(self, flow: Drawn, boxes: list[Box], loose: list[tuple[Box, Role, str]]) -> list[tuple[Box, Role, str]]:
        for box in boxes:
            flow.every.append(box)
            flow.arrows += [(a, box, role, label) for a, role, label in loose]
            loose = [(box, "next", "")]
            if box.rescue:
                self._walk(flow, box.rescue, [(box, "error", "error")])
            if box.body:
                self._walk(flow, box.body, [])
            if box.ways:
                loose = []
                for label, inner in box.ways:
                    loose += self._walk(flow, inner, [(box, "case", label)])
        return loose
