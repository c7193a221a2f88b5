"""One estate of a made-up builder with what stands in it, and what a proposal makes of it."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.app.dialects import AskOwner, propose_dialect
from zeitbuch.app.session import Session
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.propose import Proposal
from zeitbuch.readers.infer.spell import spell_dialect
from zeitbuch.readers.reading.reader import Reader

from .containers import FITTED_CONTAINERS, HELD_CONTAINERS, write_files
from .facts import facts_of
from .flows import Drawn, FlowMaker
from .words import Language, Traits
from .writers import FITTED_STRUCTURES, HELD_STRUCTURES, NESTED, Writer


class MadeEstate(NamedTuple):
    """An estate in a folder. ``traits`` tell how it was drawn."""

    folder: Path
    flows: list[Drawn]
    traits: Traits
    structure: str
    container: str
    placed: str
    kinds: dict[str, str]  # operation -> kind of step or trigger
    by_name: bool
    delimiters: tuple[str, str]
    units: tuple[str, str]  # of intervals and of waits that are bare numbers


def make_estate(
    folder: Path, seed: int, fitted: bool, words: bool, structure: str = "", container: str = "", few: bool = False
) -> MadeEstate:
    """Draw an estate and write its files; ``few`` makes it one or two flows, which tell much less."""
    draw = random.Random(f"{seed}/{fitted}/{words}")
    traits = Traits(fitted, words, nonsense=draw.random() < (0.3 if words else 0.5))
    language = Language(draw, traits)
    structure = structure or draw.choice(FITTED_STRUCTURES if fitted else HELD_STRUCTURES)
    container = container or draw.choice(FITTED_CONTAINERS if fitted else HELD_CONTAINERS)
    writer = Writer(language, structure)
    maker = FlowMaker(language, structure in NESTED, writer.place != "step")
    flows = [
        maker.draw_flow(at, small=draw.random() < 0.1)
        for at in range(draw.randrange(1, 3) if few else draw.randrange(3, 8))
    ]
    maker.facts.name_handlers(flows)
    folder.mkdir(parents=True, exist_ok=True)
    for flow in flows:
        flow.switch, flow.spelled = maker.switch, maker.spelled
    write_files(folder, container, [writer.write_flow(flow) for flow in flows], language, draw)
    kinds = {writer.written(kind): kind for kind in language.kinds}
    delimiters = (language.open, language.close)
    units = (_interval_unit(maker), maker.facts.unit_of_waits)
    return MadeEstate(
        folder, flows, traits, structure, container, writer.place, kinds, writer.by_name, delimiters, units
    )


def _interval_unit(maker: FlowMaker) -> str:
    return "minutes" if maker.clock == "minutes" else {60: "minutes", 3600: "hours"}[maker.counts_in]


class Judged(NamedTuple):
    """What a proposal made of an estate: counts by part ('links hit', 'links wanted', 'links read'), the proposal, its text."""

    counts: Counter[str]
    proposal: Proposal | None
    text: str
    flows: list[Flow]


PARTS = (
    "flows",
    "states",
    "steps",
    "links",
    "triggers",
    "trigger kinds",
    "schedules",
    "prompts",
    "models",
    "kinds",
    "off",
    "conditions",
    "rounds",
    "ai",
    "waits",
    "limits",
    "retries",
    "approvers",
    "silences",
    "recipients",
    "handlers",
)


def judge_estate(made: MadeEstate, ask: AskOwner | None = None) -> Judged:
    """Propose a dialect, read the files with it, and hold what is read against what stands in them; ``ask`` answers questions."""
    proposal, text, flows = None, "", []
    files = sorted(str(path) for path in made.folder.iterdir() if path.suffix != ".toml")
    try:
        proposal, _ = propose_dialect(Session(), files, "probe", ask)
        text = spell_dialect(proposal.made, proposal.used) if proposal else ""
        flows = list(Reader([parse_dialect(text, "probe.toml")]).read_sources(files)) if text else []
    except ZeitbuchError:
        pass
    counts: Counter[str] = Counter()
    by_name = {flow.name: flow for flow in flows}
    counts["flows read"] = len(flows)
    for truth in made.flows:
        flow = by_name.get(truth.name) or _same_steps(truth, flows)
        _judge_flow(truth, flow, counts, made)
        _judge_facts(truth, flow, counts, ask is not None, made.traits.nonsense)
    return Judged(counts, proposal, text, flows)


def _same_steps(truth: Drawn, flows: list[Flow]) -> Flow:
    """The flow that shares the names of steps, where the flow's own name was not found."""
    names = {box.name for box in truth.every}
    best = max(flows, key=lambda flow: len(names & {step.title for step in flow.steps}), default=None)
    return best if best is not None and names & {step.title for step in best.steps} else Flow(id="?")


def without_gates(flow: Flow) -> tuple[Flow, list[tuple[str, str]]]:
    """The flow without the decisions that own conditions of steps are read as, and those conditions by the titles of their steps."""
    titles = {step.id: step.title for step in flow.steps}
    owners = {
        gate.id: owner
        for gate in flow.steps
        for owner in [gate.id.rpartition(".")[0]]
        if gate.kind == "decide" and owner in titles and gate.name == f"{titles[owner]}?"
    }
    links = [structs.replace(k, target=owners.get(k.target, k.target)) for k in flow.links if k.source not in owners]
    steps = [step for step in flow.steps if step.id not in owners]
    said = [(titles[owners[step.id]], step.condition or "") for step in flow.steps if step.id in owners]
    return structs.replace(flow, steps=tuple(steps), links=tuple(links)), said


def without_rounds(flow: Flow) -> tuple[Flow, list[tuple[str, str]]]:
    """The flow without the loops that steps which repeat themselves stand in, and what these say by the titles of their steps."""
    steps = {step.id: step for step in flow.steps}
    inner = {
        step.scope: step
        for step in flow.steps
        if step.scope in steps
        and step.scope.rpartition(".")[0] == step.id
        and steps[step.scope].name == f"{step.title} (repeated)"
    }
    links = [
        structs.replace(
            k,
            source=inner[k.source].id if k.source in inner else k.source,
            target=inner[k.target].id if k.target in inner else k.target,
        )
        for k in flow.links
    ]
    kept = [
        structs.replace(step, scope=steps[step.scope].scope) if step.scope in inner else step
        for step in flow.steps
        if step.id not in inner
    ]
    repeats = [(one.title, steps[key].repeat) for key, one in inner.items()]
    said = [(title, repeat.items or repeat.until or "") for title, repeat in repeats if repeat is not None]
    return structs.replace(flow, steps=tuple(kept), links=tuple(links)), said


def _judge_flow(truth: Drawn, flow: Flow, counts: Counter[str], made: MadeEstate) -> None:
    def count(part: str, wanted: Counter[Any], read: Counter[Any]) -> None:
        counts[f"{part} hit"] += sum((wanted & read).values())
        counts[f"{part} wanted"] += sum(wanted.values())
        counts[f"{part} read"] += sum(read.values())

    flow, rounds = without_rounds(flow)
    repeated = [(box.name, box.facts["rounds"]) for box in truth.every if "rounds" in box.facts]
    count("rounds", Counter(repeated), Counter(rounds))
    flow, conditions = without_gates(flow)
    told = [(box.name, box.facts["condition"]) for box in truth.every if "condition" in box.facts]
    count("conditions", Counter(told), Counter(conditions))
    counts["flows wanted"] += 1
    counts["flows hit"] += flow.name == truth.name
    count("states", Counter([truth.state]), Counter([flow.state] if flow.state != "unknown" else []))
    kinds = {box.name: box.kind for box in truth.every}
    titles = (
        {s.id: s.title for s in flow.steps}
        | {t.id: "start" for t in flow.triggers}
        | {t.name: "start" for t in flow.triggers}
    )
    count("steps", Counter(kinds.keys()), Counter(s.title for s in flow.steps))
    wanted = Counter((a.name if a.name in kinds else "start", b.name) for a, b, _, _ in truth.arrows)
    read = Counter((titles.get(k.source, k.source), titles.get(k.target, k.target)) for k in flow.links)
    if made.structure in ("predecessors", "keyed predecessors") and made.placed != "step":
        wanted = Counter({pair: n for pair, n in wanted.items() if pair[0] != "start"})  # nothing in the export says so
        read = Counter({pair: n for pair, n in read.items() if pair[0] in kinds})
    # Whether a run goes on behind what runs after a failure, a nested export does not say.
    rescued = {box.name for one in truth.every for box in one.rescue}
    read = Counter({pair: n for pair, n in read.items() if pair in wanted or pair[0] not in rescued})
    count("links", Counter(wanted.keys()), Counter(read.keys()))
    count("triggers", Counter([1]), Counter([1] * len(flow.triggers)))
    count("trigger kinds", Counter([truth.trigger.kind]), Counter(t.kind for t in flow.triggers))
    schedules = [s for t in flow.triggers if (s := t.schedule) is not None]
    count(
        "schedules",
        Counter([truth.schedule] if truth.schedule else []),
        Counter(s.cron or f"every {s.every:g}" if s.cron or s.every else "?" for s in schedules),
    )
    count(
        "prompts",
        Counter(p for b in truth.every for p in b.prompts),
        Counter(p.text for s in flow.steps if s.model for p in s.model.prompts),
    )
    count(
        "models",
        Counter(b.model for b in truth.every if b.model),
        Counter(s.model.name for s in flow.steps if s.model and s.model.name),
    )
    count("kinds", Counter(kinds.items()), Counter((s.title, s.kind) for s in flow.steps if s.kind != "other"))
    count(
        "ai",
        Counter(b.name for b in truth.every if b.model),
        Counter(s.title for s in flow.steps if s.kind in ("model", "agent")),
    )
    count("off", Counter(b.name for b in truth.every if b.off), Counter(s.title for s in flow.steps if not s.enabled))


def _judge_facts(truth: Drawn, flow: Flow, counts: Counter[str], answered: bool, nonsense: bool) -> None:
    def count(part: str, wanted: list[Any], read: list[Any]) -> None:
        counts[f"{part} hit"] += sum((Counter(wanted) & Counter(read)).values())
        counts[f"{part} wanted"] += len(wanted)
        counts[f"{part} read"] += len(read)

    told = {box.name: facts_of(box, answered, nonsense) for box in truth.every}
    for part, key, of_step in _FACTS:
        wanted = [(name, facts[key]) for name, facts in told.items() if key in facts]
        count(part, wanted, [(step.title, value) for step in flow.steps if (value := of_step(step)) is not None])
    people = [(name, one) for name, facts in told.items() for one in facts.get("approvers", ())]
    asked = [(s.title, one) for s in flow.steps if s.approval for one in s.approval.approvers]
    count("approvers", [one for one in people if one in asked or not nonsense], asked)
    to = [(step.title, one.value) for step in flow.steps for one in step.inputs if one.role == "recipient"]
    count("recipients", [(name, facts["recipient"]) for name, facts in told.items() if "recipient" in facts], to)
    count("handlers", [truth.handler] if truth.handler and not nonsense else [], list(flow.fault_handlers))


_FACTS: tuple[tuple[str, str, Callable[[Step], Any]], ...] = (
    ("waits", "wait", lambda step: step.pause.seconds if step.pause else None),
    ("limits", "timeout", lambda step: step.timeout),
    ("retries", "retries", lambda step: step.retry.attempts if step.retry else None),
    ("silences", "silence", lambda step: step.approval.silence if step.approval else None),
)


def shares(counts: Counter[str]) -> dict[str, tuple[float, float]]:
    """(precision, recall) of every part."""
    return {
        part: (
            counts[f"{part} hit"] / max(1, counts[f"{part} read"]),
            counts[f"{part} hit"] / max(1, counts[f"{part} wanted"]),
        )
        for part in PARTS
    }
