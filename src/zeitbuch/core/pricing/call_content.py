# From a step's pass to the tokens of its calls: instruction text, what fills its placeholders, tools, memory, and
# the turns of an agent; pieces of documents, pages, images, sound. Every part keeps its own evidence, and the way it
# varies, so that the same parts give the exact mean and the sampled cost.
"""What one pass of a step uses of its model."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from msgspec import Struct, structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.uncertain import least, rounded_up
from zeitbuch.core.assumptions.values import Evidence, Value, weakest_evidence
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.kinds import MODEL_KINDS, NOT_TOOLS
from zeitbuch.core.model.records import ModelUse, Prompt, Ref, Step
from zeitbuch.core.model.references import ref_words
from zeitbuch.core.passes.agents import shares_of_tools
from zeitbuch.core.passes.moving import Pass

from .contents import texts_of
from .lineage import Sizes, output_of, window_of
from .pieces import pieces_between, pieces_of, stated_size
from .units import media_of

By = Literal["one", "turns", "later", "pairs"]
ONE = Value(1.0, "export")


class Instead(NamedTuple):
    """Another unit that an amount may be billed by: how many of it make one, and what that is based on."""

    unit: str
    times: float
    evidence: Evidence
    why: str


class Amount(Struct, frozen=True, gc=False):
    """A quantity of one unit (see rates.UNITS) used in one pass, with its evidence.

    ``quantity`` is the mean: ``times`` x the mean of ``size`` x the mean of ``by`` (1, the turns K, K - 1, or
    K (K - 1) / 2). Equal ``key`` means the same draw. ``instead`` is another unit that may be billed in its place.
    """

    unit: str
    quantity: float
    evidence: Evidence
    why: str
    times: float = 1.0
    size: Value = ONE
    key: str = ""
    by: By = "one"
    instead: Instead | None = None


class Usage(Struct, frozen=True, gc=False):
    """What one pass of a step uses of its model. ``calls`` is the mean, ``told`` what it is based on; ``each`` the calls of a turn."""

    model: str
    calls: float
    amounts: tuple[Amount, ...]
    batched: float = 0.0
    each: float = 1.0
    told: Evidence = "export"

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
        self.texts = texts_of(step, use) or self._text_before()
        self.amounts: list[Amount] = []
        factor, k2 = done.turns, done.turns2
        self.means: dict[By, float] = {"one": 1.0, "turns": factor, "later": factor - 1, "pairs": (k2 - factor) / 2}
        agent = step.kind == "agent" and factor != 1
        self.turned: Evidence = done.evidence if agent else "export"

    def _text_before(self) -> tuple[Prompt, ...]:
        """Where nothing says what a call reads: what comes from the step or trigger before it."""
        sources = [link.source for link in self.graph.arriving.get(self.step.id, ()) if link.role != "attach"]
        return (Prompt(text="", refs=(Ref(step=sources[0]),)),) if sources else ()

    def add_amount(
        self,
        unit: str,
        size: Value,
        why: str,
        times: float = 1.0,
        by: By = "one",
        key: str = "",
        instead: Instead | None = None,
    ) -> None:
        quantity = times * size.amount * self.means[by]
        if quantity:
            evidence = size.evidence if by == "one" else weakest_evidence(size.evidence, self.turned)
            self.amounts.append(Amount(unit, quantity, evidence, why, times, size, key, by, instead))

    def count_prompts(self, count: Callable[[str], float]) -> tuple[float, float, list[tuple[str, Value, float]]]:
        """Tokens and letters of the instruction text, and (key, size, times) of its placeholders."""
        fixed = letters = 0.0
        fills: list[tuple[str, Value, float]] = []
        for prompt in self.texts:
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

    def find(self, quantity: str) -> Value | None:
        """What is declared or measured of a quantity of the step."""
        return self.lookup.find(quantity, (self.step.id, self.step.name)) if quantity in self.lookup.by else None

    def add_fixed_input(self, size: Value, why: str, times: float, by: By) -> None:
        """A part of the input that is the same in every call; a share of it may come from the vendor's cache."""
        turns = f" x {self.done.turns:.3g} turns" if by == "turns" and self.done.turns != 1 else ""
        # What a log says of all input says all: the fixed part is not looked at by itself.
        cached = self.find("cached") if self.find("cached_input") is None else None
        if cached is None or not cached.amount:
            self.add_amount("input", size, why + turns, times, by)
            return
        evidence = weakest_evidence(size.evidence, cached.evidence)
        left, share = Value(1 - cached.amount, evidence), Value(cached.amount, evidence, cached.why)
        self.add_amount("input", left, why + turns, times * size.amount, by)
        self.add_amount("cached", share, f"{why} from the cache{turns}: {cached.why}", times * size.amount, by)

    def split_cached(self) -> None:
        """Of all input the share that a log says is read from the vendor's cache."""
        cached = self.find("cached_input")
        if cached is None or not cached.amount:
            return
        split: list[Amount] = []
        for one in self.amounts:
            if one.unit != "input":
                split.append(one)
                continue
            evidence = weakest_evidence(one.evidence, cached.evidence)
            for unit, share in (("input", 1 - cached.amount), ("cached", cached.amount)):
                why = one.why if unit == "input" else f"{one.why}, from the cache: {cached.why}"
                split.append(
                    structs.replace(
                        one,
                        unit=unit,
                        quantity=one.quantity * share,
                        times=one.times * share,
                        evidence=evidence,
                        why=why,
                    )
                )
        self.amounts = split


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
    calls, told = done.turns, made.turned
    each = 1.0
    if step.kind == "parse":
        pages = lookup.of_step("pages", step)
        made.add_amount("page", pages, f"pages: {pages.why}", key=f"pages {step.id}")
    elif use.modality == "speech":
        _speech_amounts(made, count)
    elif use.modality == "transcription":
        sound = made.find("sound") or _sound_of_duration(made) or lookup.of_step("sound", step)
        made.add_amount("second", sound, f"sound: {sound.why}", key=f"sound {step.id}")
    elif step.kind == "embed" or use.modality == "embedding":
        each, told = _embedding_amounts(made, count)
        calls = each
    else:
        _text_amounts(made, count)
    made.split_cached()
    return Usage(use.name or "", calls, tuple(made.amounts), batched.amount if batched is not None else 0.0, each, told)


def _sound_of_duration(made: _Maker) -> Value | None:
    """Where only the duration of a step is declared, its sound is taken to last as long; nobody has said so."""
    seconds = made.find("seconds")
    if seconds is not None and seconds.evidence == "measured":
        return None  # how long the work takes, not how long the sound is
    words = "as long as the step takes; `sound` declares it by itself"
    return structs.replace(seconds, evidence="default", why=f"{words} ({seconds.why})") if seconds is not None else None


def _speech_amounts(made: _Maker, count: Callable[[str], float]) -> None:
    _, letters, fills = made.count_prompts(lambda text: 0.0)
    spoken, written = (made.lookup.of_step(name, made.step) for name in ("letters_per_second", "letters_per_token"))
    words = f"{spoken.amount:g} letters a second ({spoken.why})"
    instead = Instead("second", 1 / spoken.amount, spoken.evidence, words)
    made.add_amount("characters", Value(letters, "export"), "text to be spoken", instead=instead)
    for key, size, times in fills:
        why = f"to be spoken: {size.why}, {written.amount:g} letters per token"
        evidence = weakest_evidence(size.evidence, written.evidence)
        size = structs.replace(size, evidence=evidence)
        made.add_amount("characters", size, why, times * written.amount, key=key, instead=instead)


def _embedding_amounts(made: _Maker, count: Callable[[str], float]) -> tuple[float, Evidence]:
    """Pieces with overlap: chunks = ceil((T - o) / (c - o)); embedded = T + o (chunks - 1); calls = ceil(chunks /
    together). Returns the calls, and what they are based on."""
    fixed, _, fills = made.count_prompts(count)
    total = fixed + sum(size.amount * times for _, size, times in fills)
    names = (made.step.id, made.step.name)
    cutting = _cutting_step(made)
    chunk = made.lookup.find("chunk", names) or stated_size(cutting, "size", made.lookup)
    if fixed:
        made.add_amount("input", Value(fixed, "export"), "text to embed")
    for key, size, times in fills:
        made.add_amount("input", size, f"to embed: {size.why}", times, key=key)
    if chunk is None:
        return 1.0, "export"
    overlap = made.lookup.find("overlap", names) or stated_size(cutting, "overlap", made.lookup)
    overlap = overlap or made.lookup.of_step("overlap", made.step)
    shared = least(overlap.amount, chunk.amount - 1)
    stated = made.step.pieces.batch if made.step.pieces is not None else None
    batch = Value(float(stated), "export", "from the export") if stated else None
    together = made.lookup.find("batch_size", names) or batch or made.lookup.of_step("batch_size", made.step)
    pieces = pieces_between(total, chunk.amount, shared)
    if pieces > 1 and shared:
        evidence = weakest_evidence(overlap.evidence, chunk.evidence, *(size.evidence for _, size, _ in fills))
        words = f"overlap of {pieces:g} pieces: {shared:g} tokens each ({overlap.why})"
        made.add_amount("input", Value(shared, evidence), words, pieces - 1.0)
    calls = rounded_up(pieces / together.amount)
    said = (overlap.evidence, chunk.evidence, together.evidence, *(size.evidence for _, size, _ in fills))
    return calls, weakest_evidence(*said)


def _cutting_step(made: _Maker) -> Step:
    """The step that says into what pieces the text is cut: the embedding itself, or one whose result it reads."""
    if pieces_of(made.step) is not None:
        return made.step
    read = (made.graph.steps.get(ref.step or "") for text in made.texts for ref in text.refs)
    cutting = (step for step in read if step is not None and step.yields != "many" and pieces_of(step) is not None)
    return next(cutting, made.step)


def _text_amounts(made: _Maker, count: Callable[[str], float]) -> None:
    step, use, lookup = made.step, made.use, made.lookup
    agent = step.kind == "agent"
    by: By = "turns" if agent else "one"
    helpers = made.graph.used_by(step.id)
    tools = [step for step in helpers if step.kind not in NOT_TOOLS and step.enabled]
    said = made.find("input")
    if said is not None:
        made.add_amount("input", said, f"tokens in: {said.why}", by=by, key=f"input {step.id}")
    else:
        _input_amounts(made, by, helpers, tools if agent else [], count)
    _turn_amounts(made, tools if agent else [], said is None)
    if use.modality == "image":
        _media_amounts(made, "one", "output", " made")
        return
    answer = output_of(step, use, lookup)
    made.add_amount("output", answer, f"answer: {answer.why}", key=f"size of {step.id}")
    reasoning = lookup.of_step("reasoning", step)
    if reasoning.amount:
        more = Value(answer.amount * reasoning.amount, weakest_evidence(answer.evidence, reasoning.evidence))
        made.add_amount(
            "output", more, f"reasoning: {reasoning.amount:g} for each token of the answer ({reasoning.why})"
        )
    _media_amounts(made, by, "input" if said is None else "")


def _input_amounts(made: _Maker, by: By, helpers: list[Step], tools: list[Step], count: Callable[[str], float]) -> None:
    """What one call reads: its text, what fills it, how its tools are described, what was said before."""
    fixed, _, fills = made.count_prompts(count)
    said = made.find("fixed_input")
    if said is not None:
        made.add_fixed_input(said, f"text that is the same in every call: {said.why}", 1.0, by)
    else:
        text = fixed + sum(count(_tool_text(tool)) for tool in tools)
        made.add_fixed_input(Value(text, "export"), "instruction text", 1.0, by)
        if tools:
            frame = made.lookup.of_step("tool_frame", made.step)
            words = f"frames of {len(tools)} tools, {frame.amount:g} each ({frame.why})"
            made.add_fixed_input(frame, words, float(len(tools)), by)
    for key, size, times in fills:
        made.add_amount("input", size, size.why, times, by, key)
    for helper in helpers if made.step.kind == "agent" else ():
        if helper.kind == "memory":
            size = window_of(helper, made.lookup)
            words = f"memory '{helper.title}': {size.why}"
            made.add_amount("input", size, words, by=by, key=f"memory {helper.id}")


def _turn_amounts(made: _Maker, tools: list[Step], earlier: bool) -> None:
    """What an agent writes to call its tools and, where its input is not declared as a whole, what it reads of ``earlier`` turns."""
    if not tools or made.done.turns <= 1:
        return
    call = made.lookup.of_step("tool_call", made.step)
    if earlier:
        words = f"earlier turns: own calls of {call.amount:g} ({call.why}) x {made.means['pairs']:.3g}"
        made.add_amount("input", call, words, by="pairs", key=f"tool call {made.step.id}")
        for tool, share in zip(tools, shares_of_tools(made.step, tools, made.lookup), strict=True):
            key, size = made.sizes.size_of_ref(Ref(step=tool.id), made.step)
            words = f"earlier turns: what ‘{tool.title}’ gave back: {size.why}"
            made.add_amount("input", size, words, share.amount, "pairs", key)
    words = f"tool calls of {call.amount:g} ({call.why})"
    made.add_amount("output", call, words, by="later", key=f"tool call {made.step.id}")


def _media_amounts(made: _Maker, by: By, tokens: str, how: str = "") -> None:
    """What is shown to a model, or made by it, beside text. ``tokens``: the unit as which images may be billed; without one they are
    among the tokens that are declared."""
    rows = media_of(made.use.modality)
    if not rows:
        return
    each = made.lookup.of_step("image_tokens", made.step)
    billed = Instead(tokens, each.amount, each.evidence, f"{each.amount:g} tokens an image ({each.why})")
    if not tokens:
        billed = Instead("input", 0.0, "declared", "images are among the declared tokens in")
    for row in rows:
        amount = made.lookup.of_step(row.quantity, made.step)
        if amount.amount:
            instead = billed if row.unit == "image" else None
            key = f"{row.quantity} {made.step.id}"
            made.add_amount(row.unit, amount, f"{row.quantity}{how}: {amount.why}", by=by, key=key, instead=instead)
