"""What made-up steps say beside their work: who is asked, how long is waited, time limits, who takes failures."""

from __future__ import annotations

import random
from typing import TYPE_CHECKING, Any

from .words import Language

if TYPE_CHECKING:
    from .flows import Box, Drawn

_PEOPLE = ("harbour.office@ferry.example", "duty officer", "Hedda Quist", "purser")
_SILENCES = {
    True: {"approve": "approves", "reject": "rejects"},
    False: {"auto-approve": "approves", "decline": "rejects", "escalate": "escalates"},
}
_CONDITIONS = {
    True: ("{0} == 'late'", "{0} > 3", "{0} != ''"),
    False: ("{0} = 'open'", "{0} >= 10 and {0} < 40", "{0} contains 'refund'", "not ({0} == 'done')"),
}
_SECONDS = {"seconds": 1, "minutes": 60}


class FactMaker:
    """Adds facts to the steps of one builder; a stream of its own, so that other draws stay as they are."""

    def __init__(self, language: Language, seed: str) -> None:
        self.words, self.draw = language, random.Random(f"facts/{seed}")
        self.wait = self.draw.choice(("seconds", "minutes", "text", "bare"))
        self.bare_unit = self.draw.choice(("seconds", "minutes"))  # what a bare number means to this builder
        self.many = self.draw.random() < 0.5  # several people are asked
        self.silence = self.draw.random() < 0.5
        self.limit = self.draw.choice(("text", "seconds", "bare", ""))
        self.retries = self.draw.random() < 0.5
        self.handled = self.draw.random() < 0.5
        self.odds = random.Random(f"conditions/{seed}")  # a stream of its own once more
        self.gated = self.odds.random() < 0.3  # steps say whether they run
        self.turns = random.Random(f"rounds/{seed}")
        self.rounds = self.turns.choice(("", "", "list", "end"))  # some steps repeat themselves
        self.checked = self.odds.random() < 0.25  # steps say what must hold behind them, which is no such condition

    @property
    def unit_of_waits(self) -> str:
        """What the builder counts waits in."""
        return {"text": "minutes", "bare": self.bare_unit}.get(self.wait, self.wait)

    def add_facts(self, box: Box) -> None:
        """Settings and everyday fields of one step, and what they say."""
        if box.kind == "wait":
            self._add_wait(box)
        elif box.kind == "approve":
            self._add_approval(box)
        elif box.kind == "send":
            box.facts["recipient"] = box.settings[self.words.key("to whom")]
        elif box.kind in ("http", "write"):
            self._add_limit(box)

    def add_conditions(self, box: Box, refs: list[str]) -> None:
        """What must hold for a step to run, and what must hold behind it, of some steps."""
        for wanted, concept, share in ((self.gated, "own condition", 0.35), (self.checked, "expected", 0.4)):
            if not wanted or box.kind in ("decide", "loop") or self.odds.random() > share:
                continue
            if not self.words.has_key(concept):
                self.words.add_key(concept, self.odds)
            text = self.odds.choice(_CONDITIONS[self.words.traits.fitted]).format(self.odds.choice(refs))
            box.fields[self.words.key(concept)] = text
            if concept == "own condition":
                box.facts["condition"] = text

    def add_rounds(self, box: Box, refs: list[str]) -> None:
        """Over what, or until when, some steps repeat themselves."""
        if not self.rounds or box.kind in ("decide", "loop", "wait", "approve") or self.turns.random() > 0.3:
            return
        for concept in ("own rounds",) if self.rounds == "list" else ("own again", "own end", "own most"):
            if not self.words.has_key(concept):
                self.words.add_key(concept, self.turns)
        key, ref = self.words.key, self.turns.choice(refs)
        if self.rounds == "list":
            box.fields[key("own rounds")] = box.facts["rounds"] = ref
        else:
            text = self.turns.choice(_CONDITIONS[self.words.traits.fitted]).format(ref)
            box.facts["rounds"] = text
            box.fields[key("own again")] = {key("own end"): text, key("own most"): self.turns.randrange(2, 9)}

    def _add_wait(self, box: Box) -> None:
        key, count = self.words.key, self.draw.randrange(5, 60)
        if self.wait == "text":
            box.settings = {key("long"): f"PT{count}M" if self.words.traits.fitted else f"{count} min"}
        elif self.wait == "bare":
            box.settings = {key("span"): count}
        else:
            box.settings = {key(f"wait {self.wait}"): count}
        box.facts["wait"] = count * _SECONDS[self.unit_of_waits]
        box.facts["told"] = self.wait != "bare"

    def _add_approval(self, box: Box) -> None:
        key, draw = self.words.key, self.draw
        people = draw.sample(_PEOPLE, 2) if self.many else [draw.choice(_PEOPLE)]
        box.settings = {key("who"): people if self.many else people[0], key("text"): "May this go out?"}
        box.facts["approvers"] = people
        if self.silence:
            word, meaning = draw.choice(list(_SILENCES[self.words.traits.fitted].items()))
            box.settings[key("silence")] = word
            box.facts["silence"] = meaning

    def _add_limit(self, box: Box) -> None:
        key, count = self.words.key, self.draw.choice((20, 45, 90))
        if self.retries:
            box.fields[key("retries")] = box.facts["retries"] = self.draw.randrange(1, 5)
        if self.limit and self.draw.random() < 0.7:
            name = "limit seconds" if self.limit == "seconds" else "timeout"
            box.fields[key(name)] = f"{count} s" if self.limit == "text" else count
            box.facts["timeout"] = count
            box.facts["told"] = self.limit != "bare"

    def name_handlers(self, flows: list[Drawn]) -> None:
        """The last flow takes the failures of the others."""
        for flow in flows[:-1] if self.handled and len(flows) > 2 else ():
            flow.handler = flows[-1].id


def facts_of(box: Box, answered: bool, nonsense: bool) -> dict[str, Any]:
    """What an export says of a step: numbers without a unit say something only once it is answered, and keys that mean nothing leave
    what the values alone tell."""
    told = answered or box.facts.get("told", True)
    silent = () if told else ("wait", "timeout")
    if nonsense:
        spelled = all(isinstance(value, str) for value in box.settings.values())
        silent = ("timeout", "retries", "silence", *(() if spelled or answered else ("wait",)))
    return {key: value for key, value in box.facts.items() if key not in (*silent, "told")}
