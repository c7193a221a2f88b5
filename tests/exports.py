"""Exports of made-up builders with random key names, in five shapes, and the truth about them."""

from __future__ import annotations

import random
import re
import uuid
from typing import Any, NamedTuple

SHAPES = ("records", "adjacency", "tree", "predecessors", "pointers")
OPERATIONS: dict[str, tuple[str, ...]] = {
    "model": ("llm.ask", "text-generate", "modelCall", "prompt_run", "ai.summarize", "modell.fragen", "demander_modele", "chat_completion"),
    "agent": ("agent.run", "assistant", "ai-agent", "agente.ia"),
    "http": ("http.request", "restCall", "api_call", "web-request-out"),
    "send": ("mail.send", "sendMessage", "notify-team", "nachricht.senden", "correo_enviar", "sms/send"),
    "read": ("table.find", "fetchRows", "get_record", "zeilen.lesen", "list-files", "buscar_filas"),
    "write": ("row.insert", "updateRecord", "save_file", "datei.speichern", "add-entry", "opprett_rad"),
    "delete": ("row.delete", "removeFile", "zeile_loeschen"),
    "decide": ("switch", "condition", "if_else", "verzweigung", "router", "choose.path"),
    "loop": ("for_each", "loop.items", "schleife", "boucle", "iterator"),
    "wait": ("delay", "wait_until", "pause", "sleep"),
    "approve": ("human.approval", "approve_step", "genehmigung"),
    "code": ("script.run", "python-code", "codeBlock"),
    "shape": ("transform", "filter.rows", "map_fields", "aggregate"),
    "memory": ("memory.buffer", "chat-memory"),
    "tool": ("tool.search", "agentTool", "werkzeug"),
    "subflow": ("subflow", "run_flow", "callWorkflow"),
}  # fmt: skip
TRIGGERS: dict[str, tuple[str, ...]] = {
    "schedule": ("cron.trigger", "schedule", "timerStart", "zeitplan", "clock-daily"),
    "webhook": ("webhook", "http-trigger", "inbound.hook"),
    "form": ("form.submitted", "formTrigger", "formulaire"),
    "polling": ("mailbox.poll", "watch_folder", "poll-table"),
    "manual": ("manual.start", "button"),
    "event": ("event.received", "queue-listen", "ereignis"),
}  # fmt: skip
NOUNS = "Passenger Berth Ferry Cargo Letter Crew Notice Ticket Harbour Weather Claim Invoice Parcel Engine Deck Cabin".split()
VERBS = "Check Sort File Route Answer Draft Compare Log Rate Match Inspect Forward Collect Count Translate Tag".split()
ADVICE = (
    "You help the harbour office. Answer in two short sentences and stay friendly.",
    "Read the letter and return the most likely reason for the complaint as one word.",
    "Summarise the incoming note for the crew, keep names and times as they are.",
    "Decide whether the item described matches the report; explain the answer briefly.",
)
ASKS = (
    "Here is the text to work on: {0}",
    "Please look at this message and reply: {0}",
    "Compare these two descriptions: {0} and {1}",
)
MODELS = ("fulmar-large-2", "petrel-mini-1.5", "skua-7b", "tern-vision-3", "gannet/chat-4")
DELIMITERS = (("{{", "}}"), ("<%", "%>"), ("${", "}"), ("[[", "]]"), ("%(", ")%"), ("<<", ">>"), ("@{", "}"))
SYLLABLES = "ba ce di fo gu ha ki lo mu ne pa qui ro su ta ve wo xi ya zo bre kla stu tri vor".split()


class Node:
    """One step of the abstract flow."""

    def __init__(self, kind: str, operation: str, name: str) -> None:
        self.kind, self.operation, self.name = kind, operation, name
        self.id: Any = ""
        self.branches: list[tuple[str, str, list[Node]]] = []
        self.body: list[Node] = []
        self.rescue: list[Node] = []
        self.helpers: list[Node] = []
        self.settings: dict[str, Any] = {}
        self.prompts: list[str] = []
        self.model = ""


class Truth(NamedTuple):
    """What a reader must find in one flow, by the names of steps."""

    name: str
    steps: dict[str, str]  # name -> kind
    links: set[tuple[str, str]]
    triggers: set[str]  # kinds
    prompts: set[str]
    models: set[str]


class Export(NamedTuple):
    documents: list[Any]
    truths: list[Truth]
    shape: str


class Drawn(NamedTuple):
    """One abstract flow, ready to be written."""

    start: Node
    start_record: dict[str, Any]
    body: list[Node]
    every: list[Node]
    links: set[tuple[str, str]]
    outlets: dict[tuple[str, str], str]


def worded(operation: str) -> str:
    """'mail.sendNow' -> 'Mail Send Now'."""
    spaced = re.sub(r"([a-z])([A-Z])", r"\1 \2", re.sub(r"[._/-]", " ", operation))
    return " ".join(w.capitalize() for w in spaced.split())


class Maker:
    """One made-up builder: its key names, its operations, its way of writing."""

    def __init__(self, seed: int, shape: str | None = None, variant: str = "") -> None:
        self.variant = variant  # split: the operation stands deeper; keyed: steps in an object; shuffled: in any order; codes; worded: operations of several words
        self.draw = draw = random.Random(seed)
        self.shape = shape or draw.choice(SHAPES)
        self.keys: dict[str, str] = {}
        self.operations = {k: draw.sample(v, min(len(v), draw.choice((1, 2)))) for k, v in OPERATIONS.items()}
        self.triggers = {k: draw.choice(v) for k, v in TRIGGERS.items()}
        if variant == "worded":
            self.operations = {k: [worded(o) for o in v] for k, v in self.operations.items()}
            self.triggers = {k: worded(o) for k, o in self.triggers.items()}
        self.by_name = draw.random() < 0.3
        self.ids = draw.choice(("number", "uuid", "slug", "small"))
        self.apart = draw.random() < 0.4
        self.settings_inside = draw.random() < 0.8
        self.open, self.close = draw.choice(DELIMITERS)
        self.wraps = [self.k(f"wrap{i}") for i in range(draw.choice((0, 0, 1, 2)))]
        self.many = draw.random() < 0.5
        self.map_outlets = draw.random() < 0.5
        self.other_way = draw.random() < 0.4  # a second way of writing the same shape
        self.chat = draw.random() < 0.3  # prompts as a list of messages
        self.coded = draw.random() < 0.3  # outlets are codes, their labels stand in the cases
        self.names: set[str] = set()
        self.counter = 0

    def k(self, concept: str) -> str:
        """The builder's key for a concept."""
        if concept not in self.keys:
            while True:
                word = "".join(self.draw.sample(SYLLABLES, self.draw.choice((2, 3))))
                if word not in self.keys.values():
                    break
            self.keys[concept] = word
        return self.keys[concept]

    def title(self) -> str:
        while True:
            name = f"{self.draw.choice(VERBS)} {self.draw.choice(NOUNS).lower()} {self.draw.choice(NOUNS).lower()}"
            if name not in self.names:
                self.names.add(name)
                return name

    def node(self, kind: str, table: dict[str, Any] | None = None) -> Node:
        made = Node(kind, self.draw.choice((table or self.operations)[kind]), self.title())
        self.counter += 1
        if self.by_name or self.shape == "predecessors":
            made.id = made.name
        elif self.ids == "number":
            made.id = self.counter + 100
        elif self.ids == "small":
            made.id = self.counter
        elif self.ids == "uuid":
            made.id = str(uuid.UUID(int=self.draw.getrandbits(128)))
        else:
            made.id = f"{made.operation.split('.')[0]}_{self.counter}"
        return made

    # -- the abstract flow --------------------------------------------------------------------------------------------

    def sequence(self, size: int, depth: int, before: list[Node]) -> list[Node]:
        plain = ("model", "http", "send", "read", "write", "shape", "code", "wait", "approve", "delete")
        made: list[Node] = []
        for _ in range(size):
            roll = self.draw.random()
            kind = (
                "agent"
                if roll < 0.1
                else "decide"
                if roll < 0.25 and depth
                else "loop"
                if roll < 0.33 and depth
                else self.draw.choice(plain)
            )
            if kind == "loop" and self.shape in ("records", "adjacency", "pointers"):
                kind = "model"
            node = self.node(kind)
            self.fill(node, before + made)
            if kind == "decide":
                for i in range(self.draw.choice((2, 2, 3))):
                    node.branches.append(
                        (
                            f"way {i + 1} of {node.name.lower()}",
                            f"count {'<>='[i % 3]} {i}",
                            self.sequence(self.draw.choice((1, 1, 2)), depth - 1, before + made),
                        )
                    )
            elif kind == "loop":
                node.body = self.sequence(2, depth - 1, before + made)
            elif kind == "agent" and self.shape not in ("predecessors",):
                node.helpers = [self.node(self.draw.choice(("memory", "tool"))) for _ in range(2)]
                for helper in node.helpers:
                    helper.settings = {self.k("size"): self.draw.randrange(5, 50), self.k("place"): "drawer"}
            elif kind in ("http", "write", "send") and self.draw.random() < 0.2:
                node.rescue = [self.node("send")]
                self.fill(node.rescue[0], before)
            made.append(node)
        return made

    def fill(self, node: Node, before: list[Node]) -> None:
        draw = self.draw
        refs = [
            f"{self.open}{b.id}.{self.k('output')}{self.close}" for b in draw.sample(before, min(2, len(before)))
        ] or ["nothing yet"]
        refs = [*refs, refs[0]]
        if node.kind in ("model", "agent"):
            node.model = draw.choice(MODELS)
            node.prompts = [draw.choice(ADVICE), draw.choice(ASKS).format(*refs)]
            node.settings = {
                self.k("engine"): node.model,
                self.k("advice"): node.prompts[0],
                self.k("ask"): node.prompts[1],
                self.k("heat"): 0.3,
            }
            if self.chat:
                said = [
                    {self.k("who"): w, self.k("says"): p} for w, p in zip(("system", "user"), node.prompts, strict=True)
                ]
                node.settings = {self.k("engine"): node.model, self.k("talk"): said, self.k("heat"): 0.3}
        elif node.kind == "decide":
            node.settings = {self.k("judge"): f"{refs[0]} > 3"}
        elif node.kind == "loop":
            node.settings = {self.k("over"): refs[0]}
        elif node.kind == "wait":
            node.settings = {self.k("long"): draw.randrange(1, 90)}
        else:
            node.settings = {
                self.k("target"): draw.choice(("crew", "office", "deck")),
                self.k("text"): f"Note {refs[0]}",
                self.k("most"): draw.randrange(9),
            }

    # -- writing ------------------------------------------------------------------------------------------------------

    def record(self, node: Node, at: int) -> dict[str, Any]:
        made: dict[str, Any] = {}
        if not (self.by_name and node.id == node.name) and self.shape != "predecessors":
            made[self.k("id")] = node.id
        if self.shape != "predecessors":
            made[self.k("name")] = node.name
        made[self.k("operation")] = node.operation
        if self.settings_inside:
            made[self.k("settings")] = dict(node.settings)
        else:
            made |= node.settings
        made[self.k("spot")] = {self.k("x"): 40 * at, self.k("y"): 90 + 13 * at}
        if self.variant == "split":
            made[self.k("deed")] = {self.k("operation"): made.pop(self.k("operation")), self.k("edition"): 2}
            made[self.k("sort")] = "part"
        elif self.variant == "codes":
            made[self.k("code")] = f"{at:02d}-{len(node.operation) % 7}"
        if self.draw.random() < 0.3:
            made[self.k("hue")] = self.draw.choice(("slate", "amber"))
        return made

    def trigger(self) -> tuple[str, Node]:
        kind = self.draw.choice(tuple(TRIGGERS))
        node = Node(kind, self.triggers[kind], self.title())
        self.counter += 1
        by_name = self.by_name or self.shape == "predecessors"
        numbers: dict[str, Any] = {"number": self.counter + 100, "small": self.counter, "slug": f"first_{self.counter}"}
        node.id = node.name if by_name else numbers.get(self.ids) or str(uuid.UUID(int=self.draw.getrandbits(128)))
        node.settings = {
            "schedule": {
                self.k("cron"): self.draw.choice(("0 6 * * *", "*/15 * * * *", "30 7 * * 1-5")),
                self.k("zone"): "Europe/Oslo",
            },
            "webhook": {self.k("path"): "/hooks/" + self.draw.choice(NOUNS).lower()},
            "form": {self.k("form"): self.draw.choice(NOUNS).lower()},
            "polling": {self.k("every"): 5, self.k("folder"): "Inbox"},
            "manual": {},
            "event": {self.k("topic"): "harbour.notices"},
        }[kind]
        return kind, node

    def flow(self, at: int) -> tuple[dict[str, Any], Truth]:
        draw = self.draw
        if self.ids == "small":
            self.counter = 0
        kind, start = self.trigger()
        body = self.sequence(draw.randrange(5, 11), 1 if self.shape in ("records", "adjacency", "pointers") else 2, [])
        links: set[tuple[str, str]] = set()
        outlets: dict[tuple[str, str], str] = {}
        every: list[Node] = []
        self._walk(body, [start.name], links, outlets, every)
        flow: dict[str, Any] = {
            self.k("flow id"): f"F-{at:03d}",
            self.k("flow name"): f"{draw.choice(NOUNS)} {draw.choice(NOUNS).lower()} flow {at}",
            self.k("flow on"): draw.random() < 0.7,
            self.k("flow changed"): "2026-10-14T08:15:00Z",
        }
        start_record = self.record(start, 0)
        getattr(self, "_" + self.shape)(flow, Drawn(start, start_record, body, every, links, outlets))
        for i in range(len(self.wraps) - 1, -1, -1):
            if not self.many:
                flow = {self.wraps[i]: flow, self.k(f"meta{i}"): i}
        truth = Truth(
            name=next(str(v) for k, v in _deep(flow) if k == self.k("flow name")),
            steps={n.name: n.kind for n in every},
            links=links,
            triggers={kind},
            prompts={p for n in every for p in n.prompts},
            models={n.model for n in every if n.model},
        )
        return flow, truth

    def _walk(
        self,
        nodes: list[Node],
        loose: list[str],
        links: set[tuple[str, str]],
        outlets: dict[tuple[str, str], str],
        every: list[Node],
    ) -> list[str]:
        for node in nodes:
            every.append(node)
            links |= {(a, node.name) for a in loose}
            loose = [node.name]
            if node.branches:
                loose = []
                for i, (label, _, inner) in enumerate(node.branches):
                    outlets[node.name, inner[0].name] = f"o{i}" if self.coded else label
                    loose += self._walk(inner, [node.name], links, outlets, every)
            if node.body:
                self._walk(node.body, [], links, outlets, every)
            for helper in node.helpers:
                every.append(helper)
                links.add((helper.name, node.name))
                outlets[helper.name, node.name] = helper.kind
            if node.rescue:
                outlets[node.name, node.rescue[0].name] = "failed"
                ends = self._walk(node.rescue, [node.name], links, outlets, every)
                loose += ends
        return loose

    def _cases(self, node: Node, record: dict[str, Any]) -> None:
        if node.branches:
            inside = record[self.k("settings")] if self.settings_inside else record
            inside[self.k("cases")] = [
                {self.k("exit"): f"o{i}", self.k("says"): label, self.k("test"): test}
                if self.coded
                else {self.k("exit"): label, self.k("test"): test}
                for i, (label, test, _) in enumerate(node.branches)
            ]

    def _flat(
        self, start: Node, start_record: dict[str, Any], every: list[Node]
    ) -> tuple[list[dict[str, Any]], dict[str, Any]]:
        ids = {n.name: n.id for n in every} | {start.name: start.id}
        steps = [self.record(n, i + 1) for i, n in enumerate(every)]
        for node, record in zip(every, steps, strict=True):
            self._cases(node, record)
        return steps, ids

    def _place(self, flow: dict[str, Any], start_record: dict[str, Any], steps: list[dict[str, Any]]) -> None:
        if self.apart:
            flow[self.k("triggers")] = start_record if self.other_way else [start_record]
        every = steps if self.apart else [start_record, *steps]
        if self.variant == "shuffled":
            self.draw.shuffle(every)
        if self.variant == "keyed":
            key = self.k("name") if self.by_name else self.k("id")
            flow[self.k("steps")] = {str(s[key]): s for s in every}
        else:
            flow[self.k("steps")] = every

    def _records(self, flow: dict[str, Any], drawn: Drawn) -> None:
        start, start_record, _body, every, links, outlets = drawn
        steps, ids = self._flat(start, start_record, every)
        self._place(flow, start_record, steps)
        if self.other_way:
            flow[self.k("links")] = {
                f"k{i}": {
                    self.k("from"): {self.k("node"): ids[a], self.k("port"): outlets.get((a, b), "out")},
                    self.k("to"): {self.k("node"): ids[b]},
                }
                for i, (a, b) in enumerate(sorted(links))
            }
            return
        flow[self.k("links")] = [
            {
                self.k("from"): ids[a],
                self.k("to"): ids[b],
                **({self.k("outlet"): outlets[a, b]} if (a, b) in outlets else {}),
            }
            for a, b in sorted(links)
        ]

    def _adjacency(self, flow: dict[str, Any], drawn: Drawn) -> None:
        start, start_record, _body, every, links, outlets = drawn
        steps, ids = self._flat(start, start_record, every)
        self._place(flow, start_record, steps)
        table: dict[str, Any] = {}
        if self.other_way and not outlets:
            for a, b in sorted(links):
                table.setdefault(str(ids[a]), []).append(ids[b])
            flow[self.k("ties")] = table
            return
        for a, b in sorted(links):
            outlet = outlets.get((a, b), "main")
            target = {self.k("node"): ids[b], self.k("port"): 0} if self.map_outlets else ids[b]
            table.setdefault(str(ids[a]), {}).setdefault(outlet, []).append(target)
        flow[self.k("ties")] = table

    def _pointers(self, flow: dict[str, Any], drawn: Drawn) -> None:
        start, start_record, _body, every, links, outlets = drawn
        steps, ids = self._flat(start, start_record, every)
        for name, record in [(start.name, start_record), *zip([n.name for n in every], steps, strict=True)]:
            out = [(b, outlets.get((a, b), "")) for a, b in sorted(links) if a == name]
            if not out:
                continue
            if self.other_way:
                record[self.k("next")] = [{self.k("when"): o or "success", self.k("go"): ids[b]} for b, o in out]
            elif any(o for _, o in out):
                grouped: dict[str, Any] = {}
                for b, o in out:
                    grouped.setdefault(o or "done", []).append(ids[b])
                record[self.k("next")] = {o: v[0] if len(v) == 1 else v for o, v in grouped.items()}
            else:
                record[self.k("next")] = ids[out[0][0]] if len(out) == 1 else [ids[b] for b, _ in out]
        self._place(flow, start_record, steps)

    def _tree(self, flow: dict[str, Any], drawn: Drawn) -> None:
        _start, start_record, body, _every, _links, _outlets = drawn

        def write(nodes: list[Node]) -> list[dict[str, Any]]:
            made = []
            for node in nodes:
                record = self.record(node, len(made))
                if node.branches and self.other_way:
                    for key, (_, _, inner) in zip(("then", "else", "third"), node.branches, strict=False):
                        record[self.k(key)] = write(inner)
                elif node.branches:
                    record[self.k("ways")] = [
                        {self.k("label"): label, self.k("only if"): test, self.k("steps"): write(inner)}
                        for label, test, inner in node.branches
                    ]
                if node.body:
                    record[self.k("inside")] = write(node.body)
                if node.helpers:
                    record[self.k("crew")] = write(node.helpers)
                if node.rescue:
                    record[self.k("rescue")] = write(node.rescue)
                made.append(record)
            return made

        self._place(flow, start_record, write(body))

    def _predecessors(self, flow: dict[str, Any], drawn: Drawn) -> None:
        start, start_record, body, _every, _links, _outlets = drawn

        def write(nodes: list[Node]) -> dict[str, Any]:
            made: dict[str, Any] = {}
            before: dict[str, list[str]] = {}
            for node in nodes:
                record = self.record(node, len(made))
                record[self.k("before")] = self._waits(before)
                if node.branches:
                    record[self.k("ways")] = {
                        label: {self.k("only if"): test, self.k("steps"): write(inner)}
                        for label, test, inner in node.branches
                    }
                if node.body:
                    record[self.k("steps")] = write(node.body)
                made[node.name] = record
                before = {node.name: ["Succeeded"]}
                if node.rescue:
                    (rescue,) = node.rescue
                    made[rescue.name] = {
                        **self.record(rescue, len(made)),
                        self.k("before"): self._waits({node.name: ["Failed"]}),
                    }
                    before = {node.name: ["Succeeded"], rescue.name: ["Succeeded"]}
            items = list(made.items())
            self.draw.shuffle(items)
            return dict(items)

        if self.apart:
            flow[self.k("triggers")] = {start.name: start_record}
            flow[self.k("steps")] = write(body)
        else:
            inner = write(body)
            for record in inner.values():
                if not record[self.k("before")]:
                    record[self.k("before")] = {start.name: ["Succeeded"]}
            flow[self.k("steps")] = {start.name: start_record, **inner}

    def _waits(self, before: dict[str, list[str]]) -> Any:
        if not self.other_way:
            return before
        return [{self.k("step"): n, self.k("state"): o[0]} for n, o in before.items()]

    def export(self, files: int = 3) -> Export:
        """Some files of this builder, and the truth."""
        documents: list[Any] = []
        truths: list[Truth] = []
        at = 0
        for _ in range(files):
            if self.many:
                flows = []
                for _ in range(self.draw.choice((1, 2, 3))):
                    flow, truth = self.flow(at)
                    flows.append(flow)
                    truths.append(truth)
                    at += 1
                document: Any = {self.k("edition"): "4.1", self.k("flows"): flows}
                for wrap in self.wraps:
                    document = {wrap: document}
            else:
                document, truth = self.flow(at)
                truths.append(truth)
                at += 1
            documents.append(document)
        return Export(documents, truths, self.shape)


def _deep(value: Any) -> list[tuple[str, Any]]:
    found: list[tuple[str, Any]] = []
    if isinstance(value, dict):
        for k, v in value.items():
            found += [(k, v), *_deep(v)]
    elif isinstance(value, list):
        for v in value:
            found += _deep(v)
    return found
