# What feeds a placeholder decides its size: a model's answer, k retrieved pieces, a list gathered from many items, pages,
# a form's field. A declared size comes first; where nothing is known a default by kind of step holds and says so.
"""Tokens of what steps and triggers hand on."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import (
    DEFAULTS,
    FIELD_TOKENS,
    OUTPUT_BY_TASK,
    OUTPUT_OTHERWISE,
    SIZE_BY_KIND,
    SIZE_OF_TRIGGER,
    SIZE_OF_VARIABLE,
    SIZE_OTHERWISE,
    SPREAD_OF_DEFAULTS,
)
from zeitbuch.core.assumptions.uncertain import exceeds, least
from zeitbuch.core.assumptions.values import Evidence, Value, spread_default, weakest_evidence
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import ModelUse, Ref, Step
from zeitbuch.core.model.references import ref_words
from zeitbuch.core.model.words import name_words
from zeitbuch.core.passes.ranged import capped, mean_over

from .asked_answers import asked_length
from .pieces import pieces_between, pieces_of, size_in_store, stated_size

_CUTTING = ("shape", "parse")  # kinds of steps that cut texts into pieces
_ANSWERS = {text: spread_default(size, f"default for the task '{text}'") for text, size in OUTPUT_BY_TASK.items()}
_ANSWER = spread_default(OUTPUT_OTHERWISE, "default")
_COUNTS = ("k", "top", "limit", "count", "number", "max", "results", "hits")


def output_of(step: Step, use: ModelUse, lookup: AssumptionLookup) -> Value:
    """Tokens that one answer of a step has, never more than its own cap."""
    found = lookup.find("output", (step.id, step.name)) if "output" in lookup.by else None
    if found is None:
        task = use.task if use.task in _ANSWERS else ""
        found = lookup.default_of("output", _ANSWERS[task] if task else _ANSWER, task or "")
        asked = asked_length(use.prompts) if step.kind == "model" else None
        if asked is not None and exceeds(found.high, asked[0]):
            amount, high = least(found.amount, asked[0]), least(found.high, asked[0])
            found = Value(amount, "default", f"the prompt asks for {asked[1]}", 2 * amount - high, high)
    cap = use.max_output
    if cap is None or not exceeds(found.high if found.ranged else found.amount, cap):
        return found
    words = f"capped by the step at {cap}"
    if found.evidence != "default":
        return capped(found, float(cap), words)
    # A default has its mean where the cap leaves it, and varies around it up to the cap.
    amount, high = least(found.amount, cap), least(found.high, cap)
    return Value(amount, "default", f"{found.why}, {words}", 2 * amount - high, high)


def scale_value(value: Value, times: float, why: str) -> Value:
    """A value a number of times over."""
    return Value(value.amount * times, value.evidence, why, value.low * times, value.high * times)


class Sizes:
    """Tokens of what steps and triggers of a flow hand on."""

    def __init__(self, graph: Graph, lookup: AssumptionLookup) -> None:
        self.graph = graph
        self.lookup = lookup
        self._passing: set[str] = set()  # steps whose size is being worked out

    def size_of_ref(self, ref: Ref, reader: Step | None = None) -> tuple[str, Value]:
        """Key and size of what fills one placeholder of ``reader``. Equal keys are one and the same text."""
        if reader is not None and "size" in self.lookup.by:
            words = ref_words(ref, self.graph.names)
            found = self._placeholder_size(reader, (words, ref.text, ref.path, ref.variable or ""))
            if found is not None:
                return f"size {reader.id} {words}", found
        if ref.step is None:
            return f"size of {ref_words(ref, self.graph.names)}", self._default(SIZE_OF_VARIABLE, "a variable")
        return f"size of {ref.step}", self._source_size(ref, reader)

    def _placeholder_size(self, reader: Step, words: tuple[str, ...]) -> Value | None:
        """A size that an assumption gives to the placeholder itself."""
        names = tuple(word for word in words if word)
        for ready in self.lookup.by["size"]:
            if ready.rule.placeholder:
                found = self.lookup.find("size", (reader.id, reader.name), placeholder=names)
                plain = self.lookup.find("size", (reader.id, reader.name))
                return found if found is not None and found != plain else None
        return None

    def _source_size(self, ref: Ref, reader: Step | None) -> Value:
        graph, lookup = self.graph, self.lookup
        trigger = graph.triggers.get(ref.step or "")
        if trigger is not None:
            found = lookup.find("size", trigger=(trigger.id, trigger.name)) or lookup.find(
                "size", step=(trigger.id, trigger.name)
            )
            if found is not None:
                return found
            if trigger.kind == "form" and ref.path:
                return self._default(FIELD_TOKENS, "a field of a form")
            return self._default(SIZE_OF_TRIGGER, "what a trigger hands on")
        step = graph.steps.get(ref.step or "")
        if step is None:
            return structs.replace(self._handed("other"), why=f"default: '{ref.step}' is no step of the flow")
        found = lookup.find("size", (step.id, step.name)) if "size" in lookup.by else None
        return found if found is not None else self._default_size(step, reader)

    def _default_size(self, step: Step, reader: Step | None) -> Value:
        use = step.model
        if use is not None and step.kind in ("model", "agent") and use.modality in ("text", "vision", "transcription"):
            answer = output_of(step, use, self.lookup)
            return scale_value(answer, 1.0, f"the answer of ‘{step.title}’: {answer.why}")
        if step.kind == "retrieve":
            return self._retrieved_size(step)
        cut = stated_size(step, "size", self.lookup) if step.yields == "many" and step.kind in _CUTTING else None
        if cut is not None:
            return self._size_of_piece(step, cut)
        if step.kind == "parse":
            return self._parsed_size(step)
        if step.kind == "shape" and step.yields != "one":
            return self._shaped_size(step)
        if step.kind == "loop" and reader is not None and step.id not in self.graph.scope_path(reader.id):
            return self._gathered_size(step)
        if step.yields == "one":
            return self._listed_size(step)
        return self._handed(step.kind)

    def _default(self, tokens: float, what: str) -> Value:
        return self.lookup.default_of("size", spread_default(tokens, f"default for {what}"), what)

    def _handed(self, kind: str) -> Value:
        """The default size of what a kind of step hands on."""
        return self._default(SIZE_BY_KIND.get(kind, SIZE_OTHERWISE), f"what a {kind} step hands on")

    def _shaped_size(self, step: Step) -> Value:
        """What a step that shapes data hands on: what came to it, joined or cut; each part of it where it makes many of one."""
        cut = stated_size(step, "size", self.lookup)
        found = self._incoming(step)
        if found is None:
            return self._handed("shape")
        named, sizes = found
        # What a text is cut into or joined from is known; what else is done to it is not.
        known: Evidence = "export" if cut is not None or len(sizes) > 1 else "default"
        evidence = weakest_evidence(known, *[size.evidence for size in sizes])
        part = 1.0
        if step.yields == "many":
            items = self.lookup.of_step("items", step)
            part, evidence = 1 / items.amount if items.amount else 1.0, weakest_evidence(evidence, items.evidence)
        total, low, high = (end * part for end in _sum_of_ends(sizes))
        why = f"passed on from {named}: {sizes[0].why}" if len(sizes) == 1 else f"joined from {named}"
        return Value(total, evidence, why, *((low, high) if high > low else (float("nan"),) * 2))

    def _incoming(self, step: Step) -> tuple[str, list[Value]] | None:
        """What comes to a step, in words and in sizes: what its inputs name, or the one thing before it; of a document its text. None
        where nothing tells."""
        if step.kind == "parse":
            return "its document", [self._parsed_size(step)]
        refs = {(ref.step, ref.variable, ref.path): ref for binding in step.inputs for ref in binding.refs}
        came = list(refs.values()) or [Ref(step=source) for source in self._only_source(step)]
        if not came or step.id in self._passing:
            return None
        self._passing.add(step.id)
        sizes = [self.size_of_ref(ref)[1] for ref in came]
        self._passing.discard(step.id)
        return ", ".join(dict.fromkeys(ref_words(ref, self.graph.names) for ref in came)), sizes

    def count_pieces(self, step: Step) -> Value | None:
        """Into how many pieces a step cuts what comes to it: ceil((T - o) / (c - o)), over the range of T; None where nothing says
        how it cuts, or what comes."""
        cut = stated_size(step, "size", self.lookup)
        found = self._incoming(step) if cut is not None else None
        if found is None or cut is None:
            return None
        named, sizes = found
        total = _sum_of_ends(sizes)
        text = Value(total[0], "export", "", *(total[1:] if total[2] > total[1] else ()))
        shared = self._overlap_of(step, cut)
        low, high = (pieces_between(end, cut.amount, shared) for end in total[1:])
        mean = mean_over(text, lambda tokens: pieces_between(tokens, cut.amount, shared))
        evidence = weakest_evidence(cut.evidence, *[size.evidence for size in sizes])
        words = f"pieces of {cut.amount:.4g} tokens ({cut.why}) of {float(total[0]):,.0f} from {named}"
        return Value(mean, evidence, words, *((low, high) if high > low else ()))

    def _overlap_of(self, step: Step, cut: Value) -> float:
        overlap = stated_size(step, "overlap", self.lookup)
        return least(overlap.amount, cut.amount - 1) if overlap is not None else 0.0

    def _size_of_piece(self, step: Step, cut: Value) -> Value:
        """The tokens of one of the pieces that a step cuts: all of them, with what they share, over their number."""
        known = self.lookup.find("items", (step.id, step.name)) is not None
        found, count = self._incoming(step), None if known else self.count_pieces(step)
        if found is None or count is None or not count.amount:
            return cut
        shared = self._overlap_of(step, cut)
        each = (_sum_of_ends(found[1])[0] + shared * (count.amount - 1)) / count.amount
        return Value(each, count.evidence, f"a piece of {cut.amount:.4g} tokens at most ({cut.why})")

    def _parsed_size(self, step: Step) -> Value:
        """The text of a document."""
        if not self.lookup.by.keys() & {"pages", "page_size"}:
            return self._handed("parse")
        pages, page = self.lookup.of_step("pages", step), self.lookup.of_step("page_size", step)
        words = f"{pages.amount:g} pages ({pages.why}) of {page.amount:g} tokens ({page.why})"
        evidence = weakest_evidence(pages.evidence, page.evidence)
        return structs.replace(scale_value(pages, page.amount, words), evidence=evidence)

    def _only_source(self, step: Step) -> list[str]:
        """The one step or trigger that leads to a step; nothing where several do."""
        sources = {link.source for link in self.graph.arriving.get(step.id, ()) if link.role != "attach"}
        return list(sources) if len(sources) == 1 else []

    def _retrieved_size(self, step: Step) -> Value:
        """k pieces of a number of tokens; both may be said, k also in the step's own inputs."""
        value = self.lookup.find("items", (step.id, step.name))
        piece = self.lookup.find("chunk", (step.id, step.name)) or size_in_store(step, self.graph, self.lookup)
        read = _number_of_pieces(step)
        if value is None and piece is None and read is None:
            return self._handed("retrieve")
        return _pieces_size(self.lookup, value, read, piece)

    def _gathered_size(self, loop: Step) -> Value:
        """What a loop hands on to what comes after it: a result for each item."""
        items = self.lookup.find("items", (loop.id, loop.name)) or self.lookup.counted.get(loop.id)
        repeat = loop.repeat
        if items is None and repeat is not None and repeat.count is not None:
            items = Value(float(repeat.count), "export", "listed in the export")
        items = items or self.lookup.default_of("items", spread_default(DEFAULTS["items"], "default"))
        last = (
            next((step for step in reversed(self.graph.levels[loop.id].steps) if step.kind != "note"), None)
            if loop.id in self.graph.levels
            else None
        )
        one = self._default_size(last, last) if last is not None else self._handed("loop")
        return self._product_size(items, one, f"results of {items.amount:g} items ({items.why})")

    def _listed_size(self, step: Step) -> Value:
        """A list gathered from the items of the nearest expanding step before it."""
        seen = {step.id}
        ways = [link.source for link in self.graph.arriving.get(step.id, ()) if link.role != "attach"]
        first = self.graph.steps.get(ways[0]) if ways else None
        while ways:
            at = self.graph.steps.get(ways.pop(0))
            if at is None or at.id in seen:
                continue
            seen.add(at.id)
            if at.yields == "many":
                return self._items_size(at, first)
            ways += [link.source for link in self.graph.arriving.get(at.id, ()) if link.role != "attach"]
        return self._handed(step.kind)

    def _items_size(self, at: Step, first: Step | None) -> Value:
        items = self.lookup.of_step("items", at)
        one = self._default_size(first, first) if first is not None and first.yields != "one" else self._handed("other")
        return self._product_size(items, one, f"a list of {items.amount:g} items ({items.why})")

    @staticmethod
    def _product_size(items: Value, one: Value, words: str) -> Value:
        evidence = weakest_evidence(items.evidence, one.evidence)
        # The sizes of many items even out: only the range of their number is kept.
        low, high = (items.low * one.amount, items.high * one.amount) if items.ranged else (float("nan"), float("nan"))
        return Value(items.amount * one.amount, evidence, f"{words} of {one.amount:g} tokens", low, high)


def _sum_of_ends(sizes: list[Value]) -> tuple[float, float, float]:
    """Mean, low and high of several sizes together."""
    mean, low, high = (sum([ends[at] for ends in map(_ends_of, sizes)]) for at in range(3))
    return mean, low, high


def counted_pieces(graph: Graph, lookup: AssumptionLookup) -> dict[str, Value]:
    """How many items steps make of one that cut it into pieces of a stated size, and loops over what such a step makes: by id, of
    those of which nothing else says it."""
    found: dict[str, Value] = {}
    for step in graph.steps.values():
        cutting = _cut_before(step, graph)
        if cutting is None or ("items" in lookup.by and lookup.find("items", (step.id, step.name)) is not None):
            continue
        count = Sizes(graph, lookup).count_pieces(cutting)
        if count is not None:
            found[step.id] = count
    return found


def _cut_before(step: Step, graph: Graph) -> Step | None:
    """The step whose pieces are the items of a step: itself, or what a loop goes over."""
    if step.yields == "many" and step.kind in _CUTTING:
        return step if pieces_of(step) is not None else None
    repeat = step.repeat
    if step.kind != "loop" or repeat is None or repeat.count is not None or repeat.until is not None:
        return None
    over = [graph.steps[ref.step] for ref in repeat.refs if ref.step in graph.steps]
    return over[0] if len(over) == 1 and over[0].kind in _CUTTING and pieces_of(over[0]) else None


def _ends_of(value: Value) -> tuple[float, float, float]:
    """Mean, low and high of a value; all the mean where it does not vary."""
    return (value.amount, value.low, value.high) if value.ranged else (value.amount, value.amount, value.amount)


def _number_of_pieces(step: Step) -> int | None:
    if step.pieces is not None and step.pieces.count is not None:
        return step.pieces.count
    return next(
        (
            second.value
            for second in step.inputs
            if isinstance(second.value, int) and not isinstance(second.value, bool) and 0 < second.value <= 100
            and any(word in _COUNTS for word in name_words(second.name))
        ),
        None,
    )  # fmt: skip


def _pieces_size(lookup: AssumptionLookup, value: Value | None, read: int | None, piece: Value | None) -> Value:
    stated = Value(float(read), "export", "the step's own number") if read is not None else None
    count = value or stated or lookup.default_of("items", Value(3.0, "default", "default"), "pieces found")
    one = piece or lookup.default_of("chunk")
    words = f"{count.amount:g} pieces ({count.why}) of {one.amount:g} tokens ({one.why})"
    low, high = (one.low * count.amount, one.high * count.amount) if one.ranged else (float("nan"), float("nan"))
    return Value(count.amount * one.amount, weakest_evidence(count.evidence, one.evidence), words, low, high)


def window_of(memory: Step, lookup: AssumptionLookup) -> Value:
    """Tokens of conversation that a memory hands to a call."""
    found = lookup.find("size", (memory.id, memory.name))
    if found is not None:
        return found
    stated: Value | None = None
    for second in memory.inputs:
        if isinstance(second.value, int) and not isinstance(second.value, bool) and second.value > 0:
            stated = stated or Value(float(second.value), "export", "the step's own number")
    count = lookup.find("messages", (memory.id, memory.name)) or stated or lookup.default_of("messages")
    one = lookup.of_step("message_size", memory)
    words = f"{count.amount:g} messages ({count.why}) of {one.amount:g} tokens ({one.why})"
    amount = count.amount * one.amount
    part = amount * SPREAD_OF_DEFAULTS  # how much of it there is differs from run to run
    return Value(amount, weakest_evidence(count.evidence, one.evidence), words, amount - part, amount + part)
