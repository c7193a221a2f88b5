# From a step's pass to the tokens of its calls: instruction text, what fills its placeholders, tools, memory, and
# the turns of an agent; pieces of documents, pages, images, sound. Every part keeps its own evidence, and the way it
# varies, so that the same parts give the exact mean and the sampled cost.
"""What one pass of a step uses of its model."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Literal

from msgspec import Struct

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import (
    LETTERS_PER_SECOND,
    LETTERS_PER_TOKEN,
    TOOL_CALL_TOKENS,
    TOOL_FRAME_TOKENS,
)
from zeitbuch.core.assumptions.uncertain import in_each_world, least
from zeitbuch.core.assumptions.values import Evidence, Value, weakest_evidence
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.kinds import MODEL_KINDS, NOT_TOOLS
from zeitbuch.core.model.records import ModelUse, Ref, Step
from zeitbuch.core.model.references import ref_words
from zeitbuch.core.passes.moving import Pass

from .lineage import Sizes, output_of, window_of
from .pieces import stated_size
from .units import media_of

By = Literal["one", "turns", "later", "pairs"]
ONE = Value(1.0, "export")
_SOUND = Value(60.0, "default", "default: a minute of sound")


class Amount(Struct, frozen=True, gc=False):
    """A quantity of one unit (see rates.UNITS) used in one pass, with its evidence.

    ``quantity`` is the mean: ``times`` x the mean of ``size`` x the mean of ``by`` (1, the turns K, K - 1, or
    K (K - 1) / 2). Equal ``key`` means the same draw. ``instead`` names another unit that may be billed in its place, with
    how many of it make one.
    """

    unit: str
    quantity: float
    evidence: Evidence
    why: str
    times: float = 1.0
    size: Value = ONE
    key: str = ""
    by: By = "one"
    instead: tuple[str, float] | None = None


class Usage(Struct, frozen=True, gc=False):
    """What one pass of a step uses of its model. ``calls`` is the mean; ``each`` the calls of a turn."""

    model: str
    calls: float
    amounts: tuple[Amount, ...]
    batched: float = 0.0
    each: float = 1.0

    def total(self, *units: str) -> float:
        return sum(first.quantity for first in self.amounts if first.unit in units)


def _tool_text(tool: Step) -> str:
    parts = [tool.name, tool.note]
    for second in tool.inputs:
        if second.decided == "model":
            parts += [second.name, second.type or "", second.description or ""]
    return " ".join(part for part in parts if part)


class _Maker:
    """Collects the amounts of one step."""

    def __init__(self, graph: Graph, step: Step, use: ModelUse, done: Pass, lookup: AssumptionLookup) -> None:
        self.graph, self.step, self.use, self.done, self.lookup = graph, step, use, done, lookup
        self.sizes = Sizes(graph, lookup)
        self.amounts: list[Amount] = []
        factor, k2 = done.turns, done.turns2
        self.means: dict[By, float] = {"one": 1.0, "turns": factor, "later": factor - 1, "pairs": (k2 - factor) / 2}
        agent = step.kind == "agent" and factor != 1
        self.turned: Evidence = done.evidence if agent else "export"

    def add_amount(
        self,
        unit: str,
        size: Value,
        why: str,
        times: float = 1.0,
        by: By = "one",
        key: str = "",
        instead: tuple[str, float] | None = None,
    ) -> None:
        quantity = times * size.amount * self.means[by]
        if quantity:
            evidence = size.evidence if by == "one" else weakest_evidence(size.evidence, self.turned)
            self.amounts.append(Amount(unit, quantity, evidence, why, times, size, key, by, instead))

    def count_prompts(self, count: Callable[[str], float]) -> tuple[float, float, list[tuple[str, Value, float]]]:
        """Tokens and letters of the instruction text, and (key, size, times) of its placeholders."""
        fixed = letters = 0.0
        fills: list[tuple[str, Value, float]] = []
        for prompt in self.use.prompts:
            text = prompt.text
            for ref in prompt.refs:
                times = 1
                if ref.text:
                    parts = text.split(ref.text)
                    times = max(1, len(parts) - 1)
                    text = " ".join(parts)
                key, size = self.sizes.size_of_ref(ref, self.step)
                words = f"{ref_words(ref, self.graph.names)}: {size.why}"
                fills.append((key, Value(size.amount, size.evidence, words, size.low, size.high), float(times)))
            # What stands around a placeholder alone is no text of its own.
            fixed += count(text) if text.strip() else 0.0
            letters += len(text.strip())
        return fixed, letters, fills

    def add_fixed_input(self, tokens: float, by: By) -> None:
        """The part of the input that is the same in every call; a share of it may come from the vendor's cache."""
        turns = f" x {self.done.turns:.3g} turns" if by == "turns" and self.done.turns != 1 else ""
        cached = self.lookup.find("cached", (self.step.id, self.step.name)) if "cached" in self.lookup.by else None
        if cached is None or not cached.amount:
            self.add_amount("input", Value(tokens, "export"), "instruction text" + turns, by=by)
            return
        share = Value(cached.amount, cached.evidence, cached.why)
        self.add_amount("input", Value(1 - cached.amount, cached.evidence), "instruction text" + turns, tokens, by)
        self.add_amount("cached", share, f"instruction text from the cache{turns}: {cached.why}", tokens, by)


def usage_of(
    graph: Graph, step: Step, done: Pass, lookup: AssumptionLookup, count: Callable[[str], float]
) -> Usage | None:
    """What one pass of a step uses, or None for a step without a model.

    An agent with K turns sees in turn j the base and all that turns 1..j-1 said, so with E[K] and E[K^2]:
    in = K base + (call + result) K (K - 1) / 2 and out = (K - 1) call + answer.
    """
    use = model_of(graph, step)
    if use is None or step.kind not in MODEL_KINDS:
        return None
    made = _Maker(graph, step, use, done, lookup)
    batched = lookup.find("batched", (step.id, step.name)) if "batched" in lookup.by else None
    calls = done.turns
    each = 1.0
    if step.kind == "parse":
        pages = lookup.of_step("pages", step)
        made.add_amount("page", pages, f"pages: {pages.why}", key=f"pages {step.id}")
    elif use.modality == "speech":
        _speech_amounts(made, count)
    elif use.modality == "transcription":
        seconds = lookup.find("seconds", (step.id, step.name)) or lookup.default_of("seconds", _SOUND, "of sound")
        made.add_amount("second", seconds, f"sound: {seconds.why}", key=f"seconds {step.id}")
    elif step.kind == "embed" or use.modality == "embedding":
        calls = each = _embedding_amounts(made, count)
    else:
        _text_amounts(made, count)
    return Usage(use.name or "", calls, tuple(made.amounts), batched.amount if batched is not None else 0.0, each)


def _speech_amounts(made: _Maker, count: Callable[[str], float]) -> None:
    _, letters, fills = made.count_prompts(lambda text: 0.0)
    instead = ("second", 1 / LETTERS_PER_SECOND)
    made.add_amount("characters", Value(letters, "export"), "text to be spoken", instead=instead)
    for key, size, times in fills:
        made.add_amount(
            "characters", size, f"to be spoken: {size.why}", times * LETTERS_PER_TOKEN, key=key, instead=instead
        )


def _embedding_amounts(made: _Maker, count: Callable[[str], float]) -> float:
    """Pieces with overlap: chunks = ceil((T - o) / (c - o)); embedded = T + o (chunks - 1); calls = ceil(chunks /
    together). Returns the calls."""
    fixed, _, fills = made.count_prompts(count)
    _add_inputs_to_embed(made, fills)
    total = fixed + sum(size.amount * times for _, size, times in fills)
    names = (made.step.id, made.step.name)
    chunk = made.lookup.find("chunk", names) or stated_size(made.step, "size")
    if fixed:
        made.add_amount("input", Value(fixed, "export"), "text to embed")
    for key, size, times in fills:
        made.add_amount("input", size, f"to embed: {size.why}", times, key=key)
    if chunk is None:
        return 1.0
    overlap = made.lookup.find("overlap", names) or stated_size(made.step, "overlap")
    overlap = overlap or made.lookup.of_step("overlap", made.step)
    shared = least(overlap.amount, chunk.amount - 1)
    stated = made.step.pieces.batch if made.step.pieces is not None else None
    batch = Value(float(stated), "export", "from the export") if stated else None
    together = made.lookup.find("batch_size", names) or batch or made.lookup.of_step("batch_size", made.step)
    pieces = in_each_world(_pieces_of, total, chunk.amount, shared)
    if pieces > 1 and shared:
        evidence = weakest_evidence(overlap.evidence, chunk.evidence, *(size.evidence for _, size, _ in fills))
        words = f"overlap of {pieces:g} pieces: {shared:g} tokens each ({overlap.why})"
        made.add_amount("input", Value(shared, evidence), words, pieces - 1.0)
    return in_each_world(lambda count, at_once: float(math.ceil(count / at_once)), pieces, together.amount)


def _pieces_of(tokens: float, chunk: float, shared: float) -> float:
    return float(max(1, math.ceil((tokens - shared) / (chunk - shared)))) if tokens else 0.0


def _add_inputs_to_embed(made: _Maker, fills: list[tuple[str, Value, float]]) -> None:
    for second in made.step.inputs if not made.use.prompts else ():
        for ref in second.refs:
            key, size = made.sizes.size_of_ref(ref, made.step)
            fills.append((key, size, 1.0))


def _text_amounts(made: _Maker, count: Callable[[str], float]) -> None:
    step, use, lookup = made.step, made.use, made.lookup
    agent = step.kind == "agent"
    by: By = "turns" if agent else "one"
    fixed, _, fills = made.count_prompts(count)
    helpers = made.graph.attached.get(step.id, [])
    tools = [step for step in helpers if step.kind not in NOT_TOOLS and step.enabled]
    if agent:
        fixed += sum(count(_tool_text(step)) + TOOL_FRAME_TOKENS for step in tools)
        for helper in helpers:
            if helper.kind == "memory":
                size = window_of(helper, lookup)
                words = f"memory '{helper.title}': {size.why}"
                fills.append(
                    (f"memory {helper.id}", Value(size.amount, size.evidence, words, size.low, size.high), 1.0)
                )
    made.add_fixed_input(fixed, by)
    for key, size, times in fills:
        made.add_amount("input", size, size.why, times, by, key)
    _turn_amounts(made, agent, tools, step)
    if use.modality == "image":
        _media_amounts(made, "one", " made")
        return
    answer = output_of(step, use, lookup)
    made.add_amount("output", answer, f"answer: {answer.why}", key=f"size of {step.id}")
    reasoning = lookup.of_step("reasoning", step)
    if reasoning.amount:
        more = Value(answer.amount * reasoning.amount, weakest_evidence(answer.evidence, reasoning.evidence))
        made.add_amount(
            "output", more, f"reasoning: {reasoning.amount:g} for each token of the answer ({reasoning.why})"
        )
    _media_amounts(made, by)


def _turn_amounts(made: _Maker, agent: bool, tools: list[Step], step: Step) -> None:
    if agent and tools and made.done.turns > 1:
        pairs = made.means["pairs"]
        made.add_amount(
            "input",
            Value(TOOL_CALL_TOKENS, made.turned),
            f"earlier turns: own calls of {TOOL_CALL_TOKENS:g} x {pairs:.3g}",
            by="pairs",
        )
        for tool in tools:
            key, size = made.sizes.size_of_ref(Ref(step=tool.id), step)
            words = f"earlier turns: what ‘{tool.title}’ gave back: {size.why}"
            made.add_amount("input", size, words, 1 / len(tools), "pairs", key)
        made.add_amount("output", Value(TOOL_CALL_TOKENS, made.turned), "tool calls", by="later")


def _media_amounts(made: _Maker, by: By, how: str = "") -> None:
    """What is shown to a model, or made by it, beside text."""
    for row in media_of(made.use.modality):
        amount = made.lookup.of_step(row.quantity, made.step)
        if amount.amount:
            key = f"{row.quantity} {made.step.id}"
            made.add_amount(row.unit, amount, f"{row.quantity}{how}: {amount.why}", by=by, key=key)
