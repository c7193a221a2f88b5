# What a dialect makes of a file, as one row: the sight by which an owner judges whether a dialect is right.
"""Previews of exports: flows, steps, links, share of content read, unclassified operations."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec import Struct

from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.sheet import Column, Sheet


class Preview(Struct, frozen=True):
    """One file. ``read`` is the share (0..1) of its values that was understood; ``unclassified`` are the operations
    that no rule fits, the most frequent first; ``format`` is empty when the file was not recognised."""

    source: str
    format: str
    flows: int
    triggers: int
    steps: int
    links: int
    prompts: int
    models: int
    read: float | None
    unclassified: tuple[str, ...]
    unread: tuple[str, ...]


class PreviewResult(Struct, frozen=True):
    """`dialect test --format json`."""

    files: tuple[Preview, ...]


def preview(source: str, flows: Sequence[Flow]) -> Preview:
    """The row of one file."""
    steps = [s for f in flows for s in f.steps]
    values = sum(f.content.values for f in flows)
    unread = sum(f.content.unread for f in flows)
    unknown = Counter(s.operation for s in steps if s.kind == "other")
    keys: Counter[str] = Counter()
    for f in flows:
        keys.update(list(f.unread))
        for s in f.steps:
            keys.update(f"step: {k}" for k in s.unread)
        for t in f.triggers:
            keys.update(f"trigger: {k}" for k in t.unread)
    return Preview(
        source=source,
        format=", ".join(dict.fromkeys(f.format for f in flows)),
        flows=len(flows),
        triggers=sum(len(f.triggers) for f in flows),
        steps=len(steps),
        links=sum(len(f.links) for f in flows),
        prompts=sum(len(s.model.prompts) for s in steps if s.model is not None),
        models=len({s.model.name for s in steps if s.model is not None and s.model.name}),
        read=1 - unread / values if values else None,
        unclassified=tuple(o for o, _ in sorted(unknown.items(), key=lambda u: (-u[1], u[0]))),
        unread=tuple(k for k, _ in sorted(keys.items(), key=lambda u: (-u[1], u[0]))),
    )


_COLUMNS = (
    Column("source", "file"),
    Column("format", "dialect"),
    Column("flows", "flows", "count"),
    Column("triggers", "triggers", "count"),
    Column("steps", "steps", "count"),
    Column("links", "links", "count"),
    Column("prompts", "prompts", "count", rank=1),
    Column("models", "models", "count", rank=2),
    Column("read", "read", "percent"),
    Column("unclassified", "not classified", "list"),
    Column("unread", "not read", "list", rank=3),
)


def sheet(rows: Sequence[Preview]) -> Sheet:
    """Previews side by side."""
    total = {
        "source": f"{len(rows)} files",
        "unclassified": (f"{len({o for r in rows for o in r.unclassified})} different",),
        **{k: sum(getattr(r, k) for r in rows) for k in ("flows", "triggers", "steps", "links", "prompts")},
    }
    return Sheet(
        columns=_COLUMNS,
        rows=tuple(tuple(getattr(r, c.key) for c in _COLUMNS) for r in rows),
        total=tuple(total.get(c.key, "") for c in _COLUMNS),
    )
