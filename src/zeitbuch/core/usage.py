# From a step's pass to the tokens of its calls: instruction text, what fills its placeholders, tools, memory, and
# the turns of an agent. Every part keeps its own evidence.
"""Tokens of one pass of a step."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from msgspec import Struct

from .assume import (
    LETTERS_PER_TOKEN,
    MESSAGE_TOKENS,
    OUTPUT_BY_TASK,
    OUTPUT_OTHERWISE,
    SIZE_BY_KIND,
    SIZE_OF_TRIGGER,
    SIZE_OTHERWISE,
    TOOL_CALL_TOKENS,
    TOOL_FRAME_TOKENS,
    Book,
    Evidence,
    Value,
    weaker,
)
from .model import ModelUse, Ref, Step
from .names import ref_words
from .passes import NOT_TOOLS, Pass
from .topology import Graph


class Amount(Struct, frozen=True):
    """A quantity of one unit (see rates.UNITS) used in one pass, with its evidence."""

    unit: str
    quantity: float
    evidence: Evidence
    why: str


class Usage(Struct, frozen=True):
    """What one pass of a step uses of its model."""

    model: str
    calls: float
    amounts: tuple[Amount, ...]

    def total(self, unit: str) -> float:
        return sum(a.quantity for a in self.amounts if a.unit == unit)


def model_of(graph: Graph, step: Step) -> ModelUse | None:
    """The model use of a step; an agent without a model of its own uses the one attached to it."""
    use = step.model
    if use is not None and use.name is None:
        for helper in graph.attached.get(step.id, []):
            if helper.kind == "model" and helper.model is not None and helper.model.name:
                return msgspec.structs.replace(use, name=helper.model.name, temperature=helper.model.temperature)
    return use


def output_of(step: Step, use: ModelUse, book: Book) -> Value:
    """Tokens that one answer of a step has, never more than its own cap."""
    found = book.find("output", (step.id, step.name))
    if found is None:
        size = OUTPUT_BY_TASK.get(use.task or "", OUTPUT_OTHERWISE)
        found = Value(
            size, "default", f"default for the task '{use.task}'" if use.task in OUTPUT_BY_TASK else "default"
        )
    if use.max_output is not None and found.amount > use.max_output:
        return Value(float(use.max_output), found.evidence, f"{found.why}, capped by the step at {use.max_output}")
    return found


class Sizes:
    """Tokens of what steps and triggers hand on."""

    def __init__(self, graph: Graph, book: Book) -> None:
        self.graph = graph
        self.book = book

    def of(self, ref: Ref) -> Value:
        """Size of what fills one placeholder."""
        graph, book = self.graph, self.book
        if ref.step is None:
            return Value(SIZE_OTHERWISE / 5, "default", "default for a variable")
        trigger = graph.triggers.get(ref.step)
        if trigger is not None:
            found = book.find("size", step=(trigger.id, trigger.name))
            return found or Value(SIZE_OF_TRIGGER, "default", "default for what a trigger hands on")
        step = graph.steps.get(ref.step)
        if step is None:
            return Value(SIZE_OTHERWISE, "default", f"default: '{ref.step}' is no step of the flow")
        found = book.find("size", (step.id, step.name))
        if found is not None:
            return found
        if (
            step.model is not None
            and step.kind in ("model", "agent")
            and step.model.modality in ("text", "vision", "transcription")
        ):
            answer = output_of(step, step.model, book)
            return Value(answer.amount, answer.evidence, f"the answer of ‘{step.title}’: {answer.why}")
        return Value(
            SIZE_BY_KIND.get(step.kind, SIZE_OTHERWISE), "default", f"default for what a {step.kind} step hands on"
        )


def _tool_text(tool: Step) -> str:
    parts = [tool.name, tool.note]
    for b in tool.inputs:
        if b.decided == "model":
            parts += [b.name, b.type or "", b.description or ""]
    return " ".join(p for p in parts if p)


def usage_of(graph: Graph, step: Step, done: Pass, book: Book, count: Callable[[str], float]) -> Usage | None:
    """What one pass of a step uses, or None for a step without a model.

    An agent with K turns sees in turn j the base and all that turns 1..j-1 said, so with E[K] and E[K^2]:
    in = K base + (call + result) K (K - 1) / 2 and out = (K - 1) call + answer.
    """
    use = model_of(graph, step)
    if use is None or step.kind not in ("model", "agent", "embed"):
        return None
    sizes = Sizes(graph, book)
    amounts: list[Amount] = []
    fixed = 0.0
    fills: list[tuple[float, Evidence, str]] = []
    letters = 0.0
    for prompt in use.prompts:
        text = prompt.text
        for ref in prompt.refs:
            times = max(1, text.count(ref.text)) if ref.text else 1
            text = text.replace(ref.text, " ") if ref.text else text
            size = sizes.of(ref)
            fills.append((size.amount * times, size.evidence, f"{ref_words(ref, graph.names)}: {size.why}"))
        fixed += count(text)
        letters += len(text.strip())
    if use.modality == "speech":
        letters += sum(f[0] for f in fills) * LETTERS_PER_TOKEN
        evidence = weaker("read", *(f[1] for f in fills))
        return Usage(use.name or "", 1.0, (Amount("characters", letters, evidence, "text to be spoken"),))
    tools = [h for h in graph.attached.get(step.id, []) if h.kind not in NOT_TOOLS and h.enabled]
    if step.kind == "agent":
        fixed += sum(count(_tool_text(t)) + TOOL_FRAME_TOKENS for t in tools)
        for helper in graph.attached.get(step.id, []):
            if helper.kind == "memory":
                size = book.find("size", (helper.id, helper.name)) or _window(helper)
                fills.append((size.amount, size.evidence, f"memory '{helper.title}': {size.why}"))
    k = done.turns
    turned: Evidence = done.evidence if step.kind == "agent" and k != 1 else "read"
    amounts.append(
        Amount("input", fixed * k, weaker("read", turned), "instruction text" + (f" x {k:.3g} turns" if k != 1 else ""))
    )
    amounts += [Amount("input", size * k, weaker(evidence, turned), why) for size, evidence, why in fills if size]
    if step.kind == "agent" and tools and k > 1:
        results = [sizes.of(Ref(step=t.id)) for t in tools]
        result = sum(r.amount for r in results) / len(results)
        pairs = (done.turns2 - k) / 2
        said = (TOOL_CALL_TOKENS + result) * pairs
        evidence = weaker(turned, *(r.evidence for r in results))
        amounts.append(
            Amount("input", said, evidence, f"earlier turns: ({TOOL_CALL_TOKENS:g} + {result:g}) x {pairs:.3g}")
        )
        amounts.append(Amount("output", TOOL_CALL_TOKENS * (k - 1), turned, "tool calls"))
    if step.kind != "embed" and use.modality != "embedding":
        answer = output_of(step, use, book)
        amounts.append(Amount("output", answer.amount, answer.evidence, f"answer: {answer.why}"))
    if use.modality == "vision":
        images = book.of_step("images", step)
        amounts.append(Amount("image", images.amount * k, images.evidence, f"images: {images.why}"))
    return Usage(use.name or "", k, tuple(amounts))


def _window(memory: Step) -> Value:
    for b in memory.inputs:
        if isinstance(b.value, int) and not isinstance(b.value, bool) and b.value > 0:
            amount = b.value * MESSAGE_TOKENS
            return Value(amount, "default", f"{b.value} messages of {MESSAGE_TOKENS:g} tokens")
    return Value(5 * MESSAGE_TOKENS, "default", f"default: 5 messages of {MESSAGE_TOKENS:g} tokens")
