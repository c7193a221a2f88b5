"""Holds what a proposed dialect reads against the truth of an export."""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

from exports import Export
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.input.limits import count_values


def read_with(dialect: Any, documents: list[Any]) -> list[Flow]:
    reader = DialectReader(dialect)
    return [f for d in documents for f, _ in reader.flows(d, Origin("x"), count_values(d))]


def proposed(documents: list[Any]) -> tuple[Suggestion, list[Flow]]:
    """A proposal for documents that hold steps, and what it reads of them."""
    made = suggest_dialect(documents, "probe")
    assert made is not None
    return made, read_with(made.dialect, json.loads(json.dumps(documents)))  # they are reshaped in place


def score(export: Export) -> Counter[str]:
    """Counts of what was found, wrong and missed: 'steps hit', 'steps wanted', 'steps read', and so on."""
    made = suggest_dialect(export.documents, "probe")
    flows = read_with(made.dialect, export.documents) if made is not None else []
    by_name = {f.name: f for f in flows}
    c: Counter[str] = Counter()
    for truth in export.truths:
        flow = by_name.get(truth.name) or Flow(id="?")
        titles = {s.id: s.title for s in flow.steps} | {t.id: t.title for t in flow.triggers}
        steps = {s.title: s.kind for s in flow.steps}
        c["steps hit"] += len(truth.steps.keys() & steps.keys())
        c["steps wanted"] += len(truth.steps)
        c["steps read"] += len(flow.steps)
        links = {(titles.get(k.source, "?"), titles.get(k.target, "?")) for k in flow.links}
        # A start that stands apart is known by its own name, or by none.
        links = {(a if a in truth.steps else "start", b) for a, b in links}
        wanted = {(a if a in truth.steps else "start", b) for a, b in truth.links}
        c["links hit"] += len(links & wanted)
        c["links wanted"] += len(wanted)
        c["links read"] += len(links)
        kinds = Counter(t.kind for t in flow.triggers)
        c["triggers hit"] += sum((kinds & Counter(truth.triggers)).values())
        c["triggers wanted"] += len(truth.triggers)
        c["triggers read"] += len(flow.triggers)
        prompts = {p.text for s in flow.steps if s.model for p in s.model.prompts}
        c["prompts hit"] += len(prompts & truth.prompts)
        c["prompts wanted"] += len(truth.prompts)
        c["prompts read"] += len(prompts)
        models = {s.model.name for s in flow.steps if s.model and s.model.name}
        c["models hit"] += len(models & truth.models)
        c["models wanted"] += len(truth.models)
        c["models read"] += len(models)
        c["kinds hit"] += sum(steps.get(n) == k for n, k in truth.steps.items())
        c["kinds wanted"] += len(truth.steps)
        c["kinds read"] += len(truth.steps)
    return c


PARTS = ("steps", "links", "triggers", "prompts", "models", "kinds")


def shares(c: Counter[str]) -> dict[str, tuple[float, float]]:
    """(precision, recall) of every part."""
    return {p: (c[f"{p} hit"] / max(1, c[f"{p} read"]), c[f"{p} hit"] / max(1, c[f"{p} wanted"])) for p in PARTS}
