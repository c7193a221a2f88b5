# ruff: noqa: E501  (a block is easier to read in one line)
"""Random flows in order, as dicts of the native form: other words, shapes and sizes for every seed, with what looks like a fault and is none."""

from __future__ import annotations

import random
from typing import Any

Json = dict[str, Any]
THINGS = "parcel crate ticket claim voucher permit reading sample roster delivery pallet survey meter badge lease quote".split()
DESKS = "north south harbour archive gate night yard tower quay dispatch stores weighing".split()
PEOPLE = ["Signe Aas", "Jon Brun", "Mette Dall", "Odd Eng", "Randi Foss", "Kari Gran", "Nils Hoel"]
MODELS = ["plover-small", "plover-large"]
SERVICES = ["table store", "mailbox", "web service", "file store", "team chat"]
LABELS = [
    ("refund", "exchange", "question"), ("damaged", "late", "fine"), ("billing", "technical"), ("Urgent", "normal", "later"),
    ("accept", "decline", "clarify"), ("in stock", "sold out"), ("A", "B", "C"),
]  # fmt: skip
SENTENCES = [
    "Read the message of a customer about a {thing} and sort it for the {desk} desk.",
    "You work at the {desk} desk and look after every {thing} that comes in.",
    "Sum up what the letter says about the {thing} in plain words, without opinions.",
    "Write a friendly answer about the {thing} in the language of the letter.",
    "Take the number and the weight of the {thing} out of the text below.",
    "Translate the report on the {thing} for the {desk} crew.",
]
ASKS = [
    "Answer with one word: {list}.",
    "Reply with {list} and nothing else.",
    "Choose one of: {list}.",
    "Return only the label: {list}.",
]


class Maker:
    """Makes one flow: keeps the ids that are taken and what a step may read."""

    def __init__(self, rng: random.Random, number: int, place: int = 0) -> None:
        self.rng = rng
        self.thing, self.desk = rng.choice(THINGS), rng.choice(DESKS)
        self.count = 0
        self.flow: Json = {
            "id": f"e{number}-{place}", "name": f"{self.thing.capitalize()} {rng.choice(['desk', 'intake', 'watch', 'answers', 'sorting'])} {place}",
            "description": f"Looks after each {self.thing} of the {self.desk} desk.", "state": "on",
            "owners": rng.sample(PEOPLE, 2), "folder": self.desk.capitalize(), "environment": rng.choice(["production", "", "live"]),
            "changed": f"2026-0{rng.randint(1, 9)}-1{rng.randint(0, 9)}T08:00:00Z",
            "triggers": [], "steps": [], "links": [], "connections": [], "variables": [],
        }  # fmt: skip
        self.trigger = self.add_trigger()
        self.last = self.trigger["id"]
        self.case: Json | None = None

    # -- parts ----------------------------------------------------------------------------------------------------------

    def new_id(self, stem: str) -> str:
        self.count += 1
        return f"{stem}_{self.count}"

    def add_trigger(self) -> Json:
        rng = self.rng
        kind = rng.choice(["schedule", "form", "chat", "webhook", "event", "polling", "manual", "call"])
        made: Json = {"id": "start", "kind": kind, "name": f"{self.thing.capitalize()} arrives"}
        if kind == "schedule":
            made["schedule"] = {
                "cron": f"{rng.randint(0, 59)} {rng.randint(6, 20)} * * {rng.choice(['*', '1-5', '1'])}",
                "zone": rng.choice(["Europe/Oslo", "UTC"]),
            }
        if kind == "polling":
            made["schedule"] = {"every": rng.choice([120, 300, 900])}
        if kind == "webhook":
            made["authentication"] = rng.choice(["signature", "key", ""])
        if kind in ("form", "event"):
            made["event"] = f"new {self.thing}"
        self.flow["triggers"].append(made)
        return made

    def reference(self, source: str, path: str = "text") -> tuple[str, list[Json]]:
        text = f"{{{source}.{path}}}"
        return text, [{"step": source, "path": path, "text": text}]

    def takes(self, name: str, source: str, path: str = "text", **more: Any) -> Json:
        text, refs = self.reference(source, path)
        return {"name": name, "value": text, "decided": "data", "refs": refs, **more}

    def add(self, kind: str, name: str, scope: str | None = None, link: bool = True, **more: Any) -> Json:
        made: Json = {"id": self.new_id(kind), "kind": kind, "name": name, "operation": f"base.{kind}", **more}
        if scope is not None:
            made["scope"] = scope
        self.flow["steps"].append(made)
        if link:
            arrow: Json = {"source": self.last, "target": made["id"]}
            if self.case is not None:
                arrow |= self.case
                self.case = None
            self.flow["links"].append(arrow)
            self.last = made["id"]
        return made

    def connection(self, service: str) -> str:
        for one in self.flow["connections"]:
            if one["service"] == service:
                return str(one["id"])
        made = {
            "id": self.new_id("conn"),
            "name": f"{self.desk.capitalize()} {service}",
            "service": service,
            "account": f"svc-{self.desk}-{service.split()[0]}",
        }
        self.flow["connections"].append(made)
        return made["id"]

    def prompt(self, sentence: str, source: str) -> list[Json]:
        text, refs = self.reference(source)
        said = f"{sentence.format(thing=self.thing, desk=self.desk)} {self.rng.choice(['Be brief.', 'Keep to the facts.', 'Stay polite.', 'Invent nothing.'])} {self.new_id('Case')}"
        return [{"text": said, "role": "system"}, {"text": f"Text: {text}", "role": "user", "refs": refs}]

    def model(self, source: str, sentence: str = "", **more: Any) -> Json:
        rng = self.rng
        use = {
            "name": rng.choice(MODELS),
            "max_output": rng.choice([200, 400, 800]),
            "temperature": rng.choice([0, 0.2]),
            "prompts": self.prompt(sentence or rng.choice(SENTENCES), source),
        }
        return self.add("model", f"Read the {self.thing}", model=use | more)

    # -- building blocks ------------------------------------------------------------------------------------------------

    def read(self) -> None:
        step = self.add(
            "read",
            f"Look up the {self.thing}",
            effect="read",
            connection=self.connection("table store"),
            inputs=[{"name": "table", "value": f"{self.thing}s"}],
        )
        self.add("shape", f"Pick the columns of the {self.thing}", inputs=[self.takes("rows", step["id"], "rows")])

    def label(self) -> None:
        rng = self.rng
        words = rng.choice(LABELS)
        listed = ", ".join(words[:-1]) + f" or {words[-1]}"
        ask = rng.choice(ASKS).format(list=listed)
        model = self.model(self.trigger["id"], f"{rng.choice(SENTENCES)} {ask}", temperature=0, max_output=10)
        _, refs = self.reference(model["id"])
        decision = self.add("decide", f"Which {self.thing}?", refs=refs)
        ends = []
        for word in words:
            shown = word.upper() if rng.random() < 0.2 else word
            self.last, self.case = (
                decision["id"],
                {"role": "case", "label": word, "condition": f"{{{model['id']}.text}} == '{shown}'", "refs": refs},
            )
            self.write() if rng.random() < 0.5 else self.notify()
            ends.append(self.last)
        self.last, self.case = decision["id"], {"role": "case", "label": "anything else", "otherwise": True}
        self.add(
            "send",
            "Ask the desk",
            effect="send",
            connection=self.connection("team chat"),
            inputs=[{"name": "text", "value": "A label that nobody knows"}],
        )

    def write(self) -> None:
        self.add(
            "write",
            f"Keep the {self.thing}",
            effect="write",
            connection=self.connection("table store"),
            retry={"attempts": 2, "wait": 5},
            inputs=[self.takes("row", self.trigger["id"], "body")],
        )

    def notify(self) -> None:
        self.add("send", f"Tell the {self.desk} desk", effect="send", connection=self.connection("mailbox"), retry={"attempts": 1, "wait": 30},
                 inputs=[{"name": "to", "value": f"{self.desk}@line.example", "role": "recipient"}, self.takes("body", self.trigger["id"], "body", role="content")])  # fmt: skip

    def answer(self) -> None:
        model = self.model(self.trigger["id"])
        self.add(
            "write",
            "Keep the answer",
            effect="write",
            connection=self.connection("table store"),
            retry={"attempts": 2, "wait": 5},
            inputs=[self.takes("row", model["id"])],
        )

    def loop(self) -> None:
        source = self.trigger["id"]
        text, refs = self.reference(source, "rows")
        loop = self.add("loop", f"Each {self.thing}", repeat={"items": text, "cap": 500, "refs": refs})
        after = self.last
        self.last = loop["id"]
        model = self.add("model", f"Judge the {self.thing}", scope=loop["id"], link=False,
                         model={"name": self.rng.choice(MODELS), "max_output": 100, "temperature": 0.1, "prompts": self.prompt(self.rng.choice(SENTENCES), loop["id"])})  # fmt: skip
        kept = self.add(
            "write",
            "Keep the judgement",
            scope=loop["id"],
            link=False,
            effect="write",
            connection=self.connection("table store"),
            retry={"attempts": 2, "wait": 5},
            inputs=[self.takes("row", model["id"])],
        )
        self.flow["links"].append({"source": model["id"], "target": kept["id"]})
        self.last = after

    def guarded(self) -> None:
        guard = self.add("guard", f"Try the {self.thing} service")
        call = self.add("http", f"Weigh the {self.thing}", scope=guard["id"], link=False, effect="read", connection=self.connection("web service"), timeout=120, retry={"attempts": 2, "wait": 10},
                        inputs=[{"name": "url", "value": "https://scales.line.example/weigh", "role": "address"}])  # fmt: skip
        told = self.add(
            "send",
            "Tell who is on watch",
            link=False,
            effect="send",
            connection=self.connection("team chat"),
            inputs=[self.takes("text", guard["id"], "error")],
        )
        self.flow["links"].append({"source": guard["id"], "target": told["id"], "role": "error"})
        assert call

    def approval(self) -> None:
        asks = self.add(
            "approve",
            f"{self.desk.capitalize()} desk agrees",
            timeout=86400,
            approval={"approvers": [f"{self.desk}@line.example"], "needed": 1, "silence": "rejects"},
        )
        self.case = {"role": "case", "label": "approved"}
        self.add("http", f"Pay for the {self.thing}", effect="spend", connection=self.connection("web service"), retry={"attempts": 1, "wait": 60},
                 inputs=[self.takes("amount", self.trigger["id"], "amount", role="amount"), {"name": "idempotency_key", "value": "{run}"}])  # fmt: skip
        assert asks

    def agent(self) -> None:
        rng = self.rng
        agent = self.add(
            "agent",
            f"{self.thing.capitalize()} helper",
            model={
                "name": MODELS[1],
                "max_turns": rng.randint(3, 9),
                "max_output": 600,
                "temperature": 0.3,
                "prompts": self.prompt(SENTENCES[1], self.trigger["id"]),
            },
        )
        for name in rng.sample(["find", "price", "stock"], rng.randint(1, 3)):
            tool = self.add("tool", f"{name.capitalize()} a {self.thing}", link=False, effect="read", note=f"Looks for the {name} of one {self.thing}", connection=self.connection("web service"),
                            inputs=[{"name": name, "decided": "model", "type": "text", "description": f"the {name}"}])  # fmt: skip
            tool["operation"] = f"base.{name}"
            self.flow["links"].append({"source": tool["id"], "target": agent["id"], "role": "attach"})
        memory = self.add("memory", "Conversation so far", link=False, inputs=[{"name": "window", "value": 12}])
        self.flow["links"].append({"source": memory["id"], "target": agent["id"], "role": "attach"})
        self.add("send", "Send the answer", effect="send", connection=self.connection("mailbox"), retry={"attempts": 1, "wait": 20},
                 inputs=[self.takes("to", self.trigger["id"], "sender", role="recipient"), self.takes("body", agent["id"], role="content")])  # fmt: skip

    def shelf(self) -> None:
        size = self.rng.choice([400, 800])
        store = f"{self.desk} shelf"
        embed = self.add(
            "embed",
            "Fill the shelf",
            model={"name": "plover-vectors", "modality": "embedding"},
            pieces={"size": size, "overlap": size // 8, "unit": "tokens", "store": store},
        )
        found = self.add(
            "retrieve",
            "Search the shelf",
            effect="read",
            model={"name": "plover-vectors", "modality": "embedding"},
            pieces={"count": 5, "store": store},
            inputs=[self.takes("query", self.trigger["id"])],
        )
        self.model(found["id"])
        self.add(
            "write",
            "Keep what was found",
            effect="write",
            connection=self.connection("table store"),
            retry={"attempts": 2, "wait": 5},
            inputs=[self.takes("row", self.last)],
        )
        assert embed

    # -- what looks like a fault and is none ----------------------------------------------------------------------------

    def traps(self) -> None:
        rng = self.rng
        for trap in rng.sample(
            [self._note, self._quoted_today, self._dated, self._limited, self._asked_inside, self._test_machine],
            rng.randint(0, 2),
        ):
            trap()

    def _note(self) -> None:
        self.add(
            "note",
            "Note",
            link=False,
            note="CHANGE_ME was replaced in May, TODO: thank the desk. See http://localhost:8080",
        )

    def _quoted_today(self) -> None:
        self.model(
            self.trigger["id"],
            'Say "today" or "later" as the letter about the {thing} wishes, nothing else.',
            max_output=10,
        )
        self._use()

    def _dated(self) -> None:
        model = self.model(self.trigger["id"], "Write today's date on top of the letter about the {thing}.")
        text, refs = self.reference(self.trigger["id"], "received_at")
        model["model"]["prompts"].append({"text": f"Received: {text}", "role": "user", "refs": refs})
        self._use()

    def _use(self) -> None:
        self.add(
            "write",
            "Keep it",
            effect="write",
            connection=self.connection("table store"),
            retry={"attempts": 2, "wait": 5},
            inputs=[self.takes("row", self.last)],
        )

    def _limited(self) -> None:
        model = self.model(self.trigger["id"], "Say how much the {thing} is worth as a number.", max_output=20)
        self.add(
            "approve",
            "Desk looks at the sum",
            timeout=3600,
            approval={"approvers": ["desk@line.example"], "silence": "rejects"},
        )
        self.case = {"role": "case", "label": "approved"}
        self.add(
            "http",
            "Book the sum",
            effect="spend",
            connection=self.connection("web service"),
            inputs=[self.takes("amount", model["id"], role="amount"), {"name": "max_amount", "value": 300}],
        )

    def _asked_inside(self) -> None:
        self.add(
            "subflow", "Have it paid", calls="pay-desk", inputs=[self.takes("amount", self.trigger["id"], "amount")]
        )

    def _test_machine(self) -> None:
        if self.flow["environment"] != "production":
            self.flow["environment"] = "test"
            self.add(
                "http",
                "Call the trial service",
                effect="read",
                connection=self.connection("web service"),
                inputs=[{"name": "url", "value": "http://localhost:9000/x", "role": "address"}],
            )


BLOCKS = [
    Maker.read,
    Maker.label,
    Maker.write,
    Maker.notify,
    Maker.answer,
    Maker.loop,
    Maker.guarded,
    Maker.approval,
    Maker.agent,
    Maker.shelf,
]


def clean_flow(rng: random.Random, number: int, place: int = 0, wanted: str = "") -> Maker:
    """A flow of one to four building blocks, ``wanted`` among them."""
    made = Maker(rng, number, place)
    blocks = rng.sample(BLOCKS, rng.randint(1, 4))
    if wanted and wanted not in [block.__name__ for block in blocks]:
        blocks.insert(rng.randint(0, len(blocks)), getattr(Maker, wanted))
    # A label ends in several ways and an approval in one of two: they stand last.
    blocks.sort(key=lambda block: block.__name__ in ("approval", "label"))
    if {Maker.approval, Maker.label} <= set(blocks):
        blocks.remove(Maker.approval if wanted != "approval" else Maker.label)
    made.traps()
    for block in blocks:
        block(made)
    return made


def pay_desk() -> Json:
    """The flow that asks a person before it pays: others call it."""
    return {
        "id": "pay-desk", "name": "Pay desk", "description": "Pays after a person agreed.", "state": "on", "owners": PEOPLE[:2],
        "triggers": [{"id": "call", "kind": "call", "name": "Called"}],
        "steps": [
            {"id": "ok", "kind": "approve", "name": "Treasurer agrees", "timeout": 86400, "approval": {"approvers": ["till@line.example"], "silence": "rejects"}},
            {"id": "pay", "kind": "http", "name": "Pay", "effect": "spend", "retry": {"attempts": 1, "wait": 60}, "inputs": [{"name": "request_id", "value": "{run}"}]},
        ],
        "links": [{"source": "call", "target": "ok"}, {"source": "ok", "target": "pay", "role": "case", "label": "approved"}],
    }  # fmt: skip


def clean_estate(seed: int, flows: int = 5, wanted: str = "") -> list[Maker]:
    """The makers of an estate's flows; the first has ``wanted``."""
    rng = random.Random(seed)
    return [clean_flow(rng, seed, place, wanted if place == 0 else "") for place in range(flows)]
