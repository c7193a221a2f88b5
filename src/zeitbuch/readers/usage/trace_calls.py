# Which spans of a trace are model calls, and of which flow and step. Agents and workflows often repeat the sums of the calls below them, and
# a call that goes through two libraries is traced twice: each token is counted once.
"""From spans to lines of usage."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from .trace_spans import Span

# OpenTelemetry semantic conventions for generative AI (registry, attributes gen_ai.*), with the names that they had before.
OPERATION, WORKFLOW, AGENT = "gen_ai.operation.name", "gen_ai.workflow.name", "gen_ai.agent.name"
_CALLS = frozenset({"chat", "text_completion", "generate_content", "embeddings"})
_TOKENS: dict[str, tuple[str, ...]] = {
    "tokens_in": ("gen_ai.usage.input_tokens", "gen_ai.usage.prompt_tokens"),
    "tokens_out": ("gen_ai.usage.output_tokens", "gen_ai.usage.completion_tokens"),
    "tokens_cached": ("gen_ai.usage.cache_read.input_tokens",),
    "tokens_reasoning": ("gen_ai.usage.reasoning.output_tokens",),
}
_NAMES: dict[str, tuple[str, ...]] = {
    "model": ("gen_ai.response.model", "gen_ai.request.model"),
    "host": ("server.address", "gen_ai.provider.name", "gen_ai.system"),
}
_OF_RESOURCE: dict[str, tuple[str, ...]] = {
    "environment": ("deployment.environment.name", "deployment.environment"),
    "service": ("service.name",),
}
COLUMNS: dict[str, str] = {
    "start": "moment", "end": "moment", "trace": "text", "span": "text", "name": "text", "flow": "text", "step": "text", "workflow": "text",
    "agent": "text", "path.1": "text", "path.2": "text", "path.3": "text", "model": "text", "host": "text", "environment": "text", "service": "text",
    "status": "text", "calls": "number", **dict.fromkeys(_TOKENS, "number"), "seconds": "number", "span.seconds": "number",
}  # fmt: skip
Tokens = dict[str, float]


class SpanCounts(Counter[str]):
    """What was counted on the way: ``repeated`` spans whose sums stand below them, ``twice`` spans that were exported twice, ``rest``
    spans that hold more than those below, ``agents`` with tokens and no call below, ``silent`` calls that say no tokens, ``unreadable`` numbers of tokens that are none."""


def lines_of_trace(spans: Sequence[Span], counts: SpanCounts) -> Iterator[tuple[dict[str, Any], Mapping[str, str]]]:
    """The lines of one trace, one for each span: values of ``COLUMNS``, and what else the span says."""
    yield from _Trace(spans, counts).lines()


class _Trace:
    def __init__(self, spans: Sequence[Span], counts: SpanCounts) -> None:
        self.counts = counts
        self.spans: list[Span] = []
        self.place: dict[str, int] = {}
        for span in spans:
            if span.id and span.id in self.place:
                counts["twice"] += 1
                continue
            if span.id:
                self.place[span.id] = len(self.spans)
            self.spans.append(span)
        self.below: list[list[int]] = [[] for _ in self.spans]
        self.order: list[int] = []  # each span after the one it is in
        self.parent: list[int | None] = [None] * len(self.spans)
        self._hang()

    def _hang(self) -> None:
        for number, span in enumerate(self.spans):
            above = self.place.get(span.parent) if span.parent and span.parent != span.id else None
            if above is not None:
                self.below[above].append(number)
                self.parent[number] = above
        waiting = [number for number, above in enumerate(self.parent) if above is None]
        seen = set(waiting)
        while waiting:
            number = waiting.pop()
            self.order.append(number)
            waiting += [one for one in self.below[number] if one not in seen]
            seen.update(self.below[number])
        for number in range(len(self.spans)):  # spans in a circle: each stands alone
            if number not in seen:
                self.parent[number], self.below[number] = None, []
                self.order.append(number)

    def lines(self) -> Iterator[tuple[dict[str, Any], Mapping[str, str]]]:
        """The lines of all spans."""
        own = [_tokens_of(span, self.counts) for span in self.spans]
        inner = self._sums_below(own)
        failed_below = self._failed_below()
        places = self._places()
        for number in sorted(self.order):
            span = self.spans[number]
            tokens, calls = self._counted(number, own[number], inner[number])
            status = ("error" if not failed_below[number] else "error below") if span.error else "ok"
            values = {
                "start": _micro(span.start), "end": _micro(span.end), "trace": span.trace or None, "span": span.id or None, "name": span.name or None,
                **places[number], **_named(span.values, _NAMES), **_named(span.resource, _OF_RESOURCE), "status": status, "calls": calls, **tokens,
                "seconds": self._own_seconds(number), "span.seconds": _seconds(span),
            }  # fmt: skip
            if calls == 0 and not tokens:
                values.pop("model", None)  # an agent names its model, and calls it below
            more = dict(span.values) | {f"resource.{name}": value for name, value in span.resource.items()}
            yield values, more

    def _sums_below(self, own: Sequence[Tokens]) -> list[Tokens]:
        """Of each span the tokens of the next spans below that have any."""
        found: list[Tokens] = [{} for _ in own]
        for number in reversed(self.order):
            for one in self.below[number]:
                for name, value in (own[one] or found[one]).items():
                    found[number][name] = found[number].get(name, 0.0) + value
        return found

    def _counted(self, number: int, own: Tokens, inner: Tokens) -> tuple[Tokens, float | None]:
        """What of a span's tokens is its own, and how many calls it is (None: nobody knows)."""
        span = self.spans[number]
        called = span.values.get(OPERATION, "") in _CALLS or (
            OPERATION not in span.values and bool(own) and "model" in _named(span.values, _NAMES)
        )
        if called:
            if own and inner and all(inner.get(name) == own.get(name) for name in ("tokens_in", "tokens_out")):
                self.counts["repeated"] += 1
                return {}, 0.0
            if not own and (inner or self._in_a_call(number)):
                return {}, 0.0
            self.counts["silent"] += not own
            return own, 1.0
        if not own:
            return {}, 0.0
        if not inner:
            self.counts["agents"] += 1
            return own, None
        rest = {name: value - inner.get(name, 0.0) for name, value in own.items() if value > inner.get(name, 0.0)}
        self.counts["rest" if rest else "repeated"] += 1
        return rest, 0.0

    def _in_a_call(self, number: int) -> bool:
        above = self.parent[number]
        return above is not None and self.spans[above].values.get(OPERATION, "") in _CALLS

    def _failed_below(self) -> list[bool]:
        found = [False] * len(self.spans)
        for number in reversed(self.order):
            above = self.parent[number]
            if above is not None and (found[number] or self.spans[number].error):
                found[above] = True
        return found

    def _places(self) -> list[dict[str, str]]:
        """Flow, step and the names on the way of each span. A flow is the workflow it is in, else the first span; a step what is next."""
        found: list[dict[str, str]] = [{} for _ in self.spans]
        ways: list[tuple[str, ...]] = [()] * len(self.spans)
        depth_of_flow = [0] * len(self.spans)
        for number in self.order:
            span, above = self.spans[number], self.parent[number]
            ways[number] = (*(ways[above] if above is not None else ()), span.name)
            place = dict(found[above]) if above is not None else {}
            for key, name in (("workflow", WORKFLOW), ("agent", AGENT)):
                if span.values.get(name):
                    place[key] = span.values[name]
            begins = above is None or (
                bool(span.values.get(WORKFLOW)) and place.get("workflow") != found[above].get("workflow")
            )
            depth_of_flow[number] = len(ways[number]) if begins else depth_of_flow[above or 0]
            way = ways[number]
            place["flow"] = place.get("workflow") or way[0]
            place.pop("step", None)
            if len(way) > depth_of_flow[number]:
                place["step"] = way[depth_of_flow[number]]
            place |= {f"path.{depth}": name for depth, name in enumerate(way[:3], 1)}
            found[number] = {key: value for key, value in place.items() if value}
        return found

    def _own_seconds(self, number: int) -> float | None:
        """How long a span took less what passed in spans below it, so that the spans of a run add up to it."""
        span = self.spans[number]
        if span.start is None or span.end is None or span.end < span.start:
            return None
        until, taken = span.start, 0
        pairs = [(self.spans[one].start, self.spans[one].end) for one in self.below[number]]
        for start, end in sorted((start, end) for start, end in pairs if start is not None and end is not None):
            start, end = max(start, until), min(end, span.end)
            if end > start:
                taken += end - start
                until = end
        return (span.end - span.start - taken) / 1e9


def _tokens_of(span: Span, counts: SpanCounts) -> Tokens:
    found: Tokens = {}
    for name, keys in _TOKENS.items():
        for key in keys:
            if (text := span.values.get(key)) is None:
                continue
            try:
                found[name] = float(text)
            except ValueError:
                counts["unreadable"] += 1
            break
    return found


def _named(values: Mapping[str, str], names: Mapping[str, tuple[str, ...]]) -> dict[str, str]:
    """The first of some names that says something."""
    return {
        name: found
        for name, keys in names.items()
        if (found := next((values[key] for key in keys if values.get(key)), ""))
    }


def _micro(moment: int | None) -> int | None:
    return None if moment is None else moment // 1000


def _seconds(span: Span) -> float | None:
    if span.start is None or span.end is None or span.end < span.start:
        return None
    return (span.end - span.start) / 1e9
