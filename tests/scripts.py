"""Random flows that look like a builder's, and edit scripts with known effects."""

from __future__ import annotations

import random
from collections.abc import Callable

from msgspec import structs

from builders import START
from zeitbuch.core.model.canonical import Ids, map_ids
from zeitbuch.core.model.records import Binding, Flow, Link, ModelUse, Prompt, Ref, Repeat, Step

VERBS = (
    "read fetch sort check choose label answer draft send store merge split count rate translate file ask tell warn "
    "book plan weigh note match"
).split()
NOUNS = (
    "letter berth claim crew rota ticket cargo report invoice alarm cabin route refund parcel timetable notice queue "
    "weather gangway photo ledger buoy customs quay"
).split()
WORDS = (
    "the a passenger ship write short polite reply never mention price always name berth when late harbour office crew "
    "list sort urgent first then answer in one sentence use words of house style keep dates and numbers as they are"
).split()
KINDS = ["model", "http", "shape", "write", "send", "read", "code", "wait", "retrieve"]
Effect = tuple[str, str]  # type of change, step (new id)


class Maker:
    """One random flow: blocks in a row, decisions whose branches meet again, loops, agents with tools."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.count = 0
        self.style = rng.choice(["number", "hex"])
        self.names: set[str] = set()

    def fresh_id(self) -> str:
        self.count += 1
        return str(self.count) if self.style == "number" else f"n{self.rng.getrandbits(40):010x}"

    def name(self) -> str:
        while True:
            name = f"{self.rng.choice(VERBS).title()} {self.rng.choice(NOUNS)}"
            if name not in self.names or self.rng.random() < 0.05:
                self.names.add(name)
                return name

    def text(self, words: int) -> str:
        return " ".join(self.rng.choice(WORDS) for _ in range(words)).capitalize() + "."

    def binding(self, at: int) -> Binding:
        rng = self.rng
        if self.steps and rng.random() < 0.4:
            source = rng.choice(self.steps)
            raw = f"{{{{{source.id}.{rng.choice(NOUNS)}}}}}"
            path = raw.strip("{}").split(".", 1)[1]
            return Binding(
                name=f"in{at}", value=f"see {raw}", decided="data", refs=(Ref(step=source.id, path=path, text=raw),)
            )
        return Binding(name=f"in{at}", value=rng.choice([rng.randint(0, 99), self.text(3), rng.choice(NOUNS)]))

    def step(self, kind: str, scope: str | None, **more: object) -> Step:
        rng = self.rng
        use = None
        if kind in ("model", "agent"):
            use = ModelUse(
                name=rng.choice(["tern-2", "skua-1", "gannet-4"]),
                prompts=(Prompt(text=self.text(rng.randint(12, 60))),),
            )
        made = Step(
            id=self.fresh_id(), kind=kind, name=self.name(), operation=f"{kind}.{rng.choice('abc')}", scope=scope,  # type: ignore[arg-type]
            effect={"write": "write", "send": "send", "read": "read"}.get(kind, "none"), model=use,  # type: ignore[arg-type]
            inputs=tuple(self.binding(i) for i in range(rng.randint(0, 3))), **more,  # type: ignore[arg-type]
        )  # fmt: skip
        self.steps.append(made)
        return made

    def row(
        self, before: list[tuple[str, str, str]], length: int, scope: str | None, depth: int
    ) -> list[tuple[str, str, str]]:
        """Blocks one after the other; ``before`` are open ends (source, role, label)."""
        for _ in range(length):
            what = self.rng.random()
            if what < 0.15 and depth < 2:
                before = self.decision(before, scope, depth)
            elif what < 0.25 and depth < 2:
                loop = self.step("loop", scope, repeat=Repeat(items=self.rng.choice(NOUNS)))
                self.join(before, loop.id)
                self.row([], self.rng.randint(2, 4), loop.id, depth + 1)
                before = [(loop.id, "next", "")]
            elif what < 0.3:
                agent = self.step("agent", scope)
                self.join(before, agent.id)
                for _ in range(self.rng.randint(1, 3)):
                    tool = self.step("tool", scope)
                    self.links.append(Link(source=tool.id, target=agent.id, role="attach"))
                before = [(agent.id, "next", "")]
            else:
                one = self.step(self.rng.choice(KINDS), scope)
                self.join(before, one.id)
                before = [(one.id, "next", "")]
        return before

    def decision(self, before: list[tuple[str, str, str]], scope: str | None, depth: int) -> list[tuple[str, str, str]]:
        decide = self.step("decide", scope, condition=self.text(4))
        self.join(before, decide.id)
        ends = []
        for label in ["yes", "no", "else"][: self.rng.randint(2, 3)]:
            ends += self.row([(decide.id, "case", label)], self.rng.randint(1, 2), scope, depth + 1)
        return ends

    def join(self, ends: list[tuple[str, str, str]], target: str) -> None:
        for source, role, label in ends:
            self.links.append(Link(source=source, target=target, role=role, label=label))  # type: ignore[arg-type]

    def flow(self) -> Flow:
        self.row([("start", "next", "")], self.rng.randint(5, 14), None, 0)
        return Flow(id="f", name="Made", triggers=(START,), steps=tuple(self.steps), links=tuple(self.links))


def made_flow(seed: int) -> Flow:
    """A random flow."""
    return Maker(random.Random(seed)).flow()


class Script:
    """Edits of a flow, each with the effect that a comparison should report. Edits keep away from each other: where two
    touch the same links, there is more than one right account of them."""

    def __init__(self, flow: Flow, rng: random.Random) -> None:
        self.flow, self.rng = flow, rng
        self.touched: set[str] = set()
        self.effects: set[Effect] = set()
        self.maker = Maker(rng)
        self.maker.style = "hex"
        self.maker.names = {s.name for s in flow.steps}
        self.gone: set[str] = set()
        self.come: set[str] = set()

    def near(self, step_id: str) -> set[str]:
        return {step_id} | {e for k in self.flow.links if step_id in (k.source, k.target) for e in (k.source, k.target)}

    def plain(self) -> list[Step]:
        """Steps in a row: one way in, one way on, no helper, no scope, nothing touched nearby."""
        found = []
        for s in self.flow.steps:
            into = [k for k in self.flow.links if k.target == s.id]
            on = [k for k in self.flow.links if k.source == s.id]
            if len(into) == len(on) == 1 and on[0].role == "next" and into[0].role != "attach" and s.kind in KINDS:
                nears = {e for n in self.near(s.id) for e in self.near(n)}
                if not nears & self.touched:
                    found.append(s)
        return found

    def replace(self, step: Step, **more: object) -> None:
        self.flow = structs.replace(
            self.flow, steps=tuple(structs.replace(s, **more) if s.id == step.id else s for s in self.flow.steps)
        )

    def free(self, test: Callable[[Step], bool] = lambda s: True) -> Step | None:
        fit = [s for s in self.flow.steps if s.id not in self.touched and test(s)]
        return self.rng.choice(fit) if fit else None

    # -- the edits ------------------------------------------------------------------------------------------------

    def rename(self) -> None:
        step = self.free()
        if step is not None:
            self.replace(step, name=self.maker.name())
            self.took(step.id, "step renamed")

    def prompt(self) -> None:
        step = self.free(lambda s: s.model is not None)
        if step is not None and step.model is not None:
            words = step.model.prompts[0].text.split()
            at = self.rng.randrange(len(words))
            words[at : at + self.rng.randint(0, 3)] = [self.rng.choice(WORDS) for _ in range(self.rng.randint(1, 5))]
            text = " ".join(words)
            if text != step.model.prompts[0].text:
                self.replace(step, model=structs.replace(step.model, prompts=(Prompt(text=text),)))
                self.took(step.id, "prompt")

    def model(self) -> None:
        step = self.free(lambda s: s.model is not None)
        if step is not None and step.model is not None:
            self.replace(step, model=structs.replace(step.model, name="petrel-9"))
            self.took(step.id, "model")

    def input(self) -> None:
        step = self.free(lambda s: any(b.decided == "fixed" for b in s.inputs))
        if step is not None:
            at = next(i for i, b in enumerate(step.inputs) if b.decided == "fixed")
            inputs = list(step.inputs)
            inputs[at] = structs.replace(inputs[at], value="something else")
            self.replace(step, inputs=tuple(inputs))
            self.took(step.id, "input")

    def insert(self) -> None:
        links = [k for k in self.flow.links if k.role == "next" and not ({k.source, k.target} & self.touched)]
        links = [k for k in links if k.source in {s.id for s in self.flow.steps}]
        if not links:
            return
        link = self.rng.choice(links)
        target = self.flow.step(link.target)
        self.maker.steps = []
        new = self.maker.step(self.rng.choice(KINDS), target.scope if target is not None else None)
        rest = [k for k in self.flow.links if k is not link]
        rest += [structs.replace(link, target=new.id), Link(source=new.id, target=link.target)]
        self.flow = structs.replace(self.flow, steps=(*self.flow.steps, new), links=tuple(rest))
        self.touched |= {link.source, link.target}
        self.come.add(new.id)
        self.took(new.id, "step added")

    def remove(self) -> None:
        fit = [
            s
            for s in self.plain()
            if not any(r.step == s.id for o in self.flow.steps for b in o.inputs for r in b.refs)
        ]
        if fit:
            step = self.rng.choice(fit)
            self.touched |= self.near(step.id)
            self.cut(step.id)
            self.flow = structs.replace(self.flow, steps=tuple(s for s in self.flow.steps if s.id != step.id))
            self.gone.add(step.id)
            self.took(step.id, "step removed")

    def swap(self) -> None:
        """Another step, of another kind, in the place of one."""
        fit = [
            s
            for s in self.plain()
            if not any(r.step == s.id for o in self.flow.steps for b in o.inputs for r in b.refs)
        ]
        if fit:
            step = self.rng.choice(fit)
            self.touched |= self.near(step.id)
            self.maker.steps = []
            new = self.maker.step("approve" if step.kind != "approve" else "http", step.scope)
            links = [
                structs.replace(
                    k,
                    source=new.id if k.source == step.id else k.source,
                    target=new.id if k.target == step.id else k.target,
                )
                for k in self.flow.links
            ]
            kept = tuple(s for s in self.flow.steps if s.id != step.id)
            self.flow = structs.replace(self.flow, steps=(*kept, new), links=tuple(links))
            self.gone.add(step.id)
            self.come.add(new.id)
            self.effects.add(("step removed", step.id))
            self.took(new.id, "step added")

    def cut(self, step_id: str) -> None:
        """Take a plain step out of its row."""
        (into,) = [k for k in self.flow.links if k.target == step_id]
        (on,) = [k for k in self.flow.links if k.source == step_id]
        rest = [k for k in self.flow.links if k not in (into, on)]
        self.flow = structs.replace(self.flow, links=(*rest, structs.replace(into, target=on.target)))

    def move(self) -> None:
        for step in self.rng.sample(self.plain(), len(self.plain())):
            around = {e for n in self.near(step.id) for e in self.near(n)}
            spots = [
                k
                for k in self.flow.links
                if k.role == "next"
                and not ({k.source, k.target} & (around | self.touched))
                and (s := self.flow.step(k.source)) is not None
                and s.scope == step.scope
                and k.source != step.scope
            ]
            if not spots:
                continue
            spot = self.rng.choice(spots)
            self.touched |= self.near(step.id) | {spot.source, spot.target}
            self.cut(step.id)
            rest = [k for k in self.flow.links if k is not spot]
            rest += [structs.replace(spot, target=step.id), Link(source=step.id, target=spot.target)]
            self.flow = structs.replace(self.flow, links=tuple(rest))
            self.took(step.id, "step moved")
            return

    def rewire(self) -> None:
        ids = {s.id: s for s in self.flow.steps}
        links = [k for k in self.flow.links if k.role == "case" and not ({k.source, k.target} & self.touched)]
        self.rng.shuffle(links)
        for link in links:
            near = self.near(link.source) | self.near(link.target)
            fit = [
                s
                for s in self.flow.steps
                if s.scope == ids[link.source].scope and s.id not in near | self.touched and s.kind in KINDS
                and not any({k.source, k.target} == {link.source, s.id} for k in self.flow.links)
            ]  # fmt: skip
            if fit:
                other = self.rng.choice(fit)
                rest = [structs.replace(k, target=other.id) if k is link else k for k in self.flow.links]
                self.flow = structs.replace(self.flow, links=tuple(rest))
                self.touched |= {link.source, link.target, other.id}
                self.took(link.source, "link rewired")
                return

    def rescope(self) -> None:
        loops = [s for s in self.flow.steps if s.kind == "loop" and s.id not in self.touched]
        fit = [s for s in self.plain() if s.scope is None]
        self.rng.shuffle(fit)
        for loop in loops:
            for step in fit:
                inside = [s for s in self.flow.steps if s.scope == loop.id]
                last = [s for s in inside if not any(k.source == s.id for k in self.flow.links)]
                if not last or loop.id in self.near(step.id) or {s.id for s in inside} & self.touched:
                    continue
                self.touched |= self.near(step.id) | {loop.id, last[-1].id}
                self.cut(step.id)
                self.replace(step, scope=loop.id)
                rest = (*self.flow.links, Link(source=last[-1].id, target=step.id))
                self.flow = structs.replace(self.flow, links=rest)
                self.took(step.id, "scope")
                return

    def took(self, step_id: str, kind: str) -> None:
        self.touched.add(step_id)
        self.effects.add((kind, step_id))

    def renew(self) -> dict[str, str]:
        """All ids anew, in placeholders too."""
        ids = {s.id: f"z{self.rng.getrandbits(48):012x}" for s in self.flow.steps}
        flow = map_ids(self.flow, Ids(ids))

        def spelled(b: Binding) -> Binding:
            value, refs = b.value, []
            for r in b.refs:
                raw = f"{{{{{r.step}.{r.path}}}}}"
                value = value.replace(r.text, raw)
                refs.append(structs.replace(r, text=raw))
            return structs.replace(b, value=value, refs=tuple(refs))

        self.flow = structs.replace(
            flow, steps=tuple(structs.replace(s, inputs=tuple(spelled(b) for b in s.inputs)) for s in flow.steps)
        )
        self.effects = {(k, ids.get(s, s)) for k, s in self.effects}
        return ids


EDITS = ("rename", "prompt", "model", "input", "insert", "remove", "move", "rewire", "rescope", "swap")


def scripted(seed: int, renewed: bool = False, names: float = 0.0) -> tuple[Flow, Flow, set[Effect], dict[str, str]]:
    """A flow, the flow after one to five edits, their effects, and which old step is which new one. ``names`` is the share
    of steps that get another name."""
    rng = random.Random(seed + 1_000_003)
    old = made_flow(seed)
    script = Script(old, rng)
    for _ in range(rng.choice([1, 1, 2, 3, 4, 5])):
        getattr(script, rng.choice(EDITS))()
    if names:
        for step in script.flow.steps:
            if rng.random() < names and ("step renamed", step.id) not in script.effects and step.id not in script.come:
                script.replace(step, name=script.maker.name())
                script.effects.add(("step renamed", step.id))
    truth = {s.id: s.id for s in old.steps if s.id not in script.gone}
    if renewed:
        ids = script.renew()
        truth = {a: ids[b] for a, b in truth.items()}
    return old, script.flow, script.effects, truth
