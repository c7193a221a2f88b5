# What a dialect makes of a file, as one row: the sight by which an owner judges whether a dialect is right.
"""Previews of exports: flows, steps, links, share of content read, unclassified operations."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

from msgspec import Struct

from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.sheet import Column, Sheet, percent_text
from zeitbuch.core.model.words import count_words


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


def preview_file(source: str, flows: Sequence[Flow]) -> Preview:
    """The row of one file."""
    steps = [step for flow in flows for step in flow.steps]
    uses = [step.model for step in steps if step.model is not None]
    values = sum(flow.content.values for flow in flows)
    unread = sum(flow.content.unread for flow in flows)
    return Preview(
        source=source,
        format=", ".join(dict.fromkeys(flow.format for flow in flows)),
        flows=len(flows),
        triggers=sum(len(flow.triggers) for flow in flows),
        steps=len(steps),
        links=sum(len(flow.links) for flow in flows),
        prompts=sum(len(use.prompts) for use in uses),
        models=len({use.name for use in uses if use.name}),
        read=1 - unread / values if values else None,
        unclassified=_most_frequent(Counter(step.operation for step in steps if step.kind == "other")),
        unread=_most_frequent(_unread_keys(flows)),
    )


def _unread_keys(flows: Sequence[Flow]) -> Counter[str]:
    keys: Counter[str] = Counter()
    for flow in flows:
        keys.update(list(flow.unread))
        keys.update(f"around: {key}" for key in flow.around)
        for step in flow.steps:
            keys.update(f"step: {key}" for key in step.unread)
        for trigger in flow.triggers:
            keys.update(f"trigger: {key}" for key in trigger.unread)
    return keys


def _most_frequent(counts: Counter[str]) -> tuple[str, ...]:
    """The keys, the most frequent first, equally frequent ones by name."""
    return tuple(key for key, _ in sorted(counts.items(), key=lambda item: (-item[1], item[0])))


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


def preview_sheet(rows: Sequence[Preview]) -> Sheet:
    """Previews side by side."""
    total = {
        "source": count_words(len(rows), "file"),
        "unclassified": (f"{len({name for preview in rows for name in preview.unclassified})} different",),
        **{
            key: sum(getattr(preview, key) for preview in rows)
            for key in ("flows", "triggers", "steps", "links", "prompts")
        },
    }
    return Sheet(
        columns=_COLUMNS,
        rows=tuple(tuple(getattr(preview, column.key) for column in _COLUMNS) for preview in rows),
        total=tuple(total.get(column.key, "") for column in _COLUMNS),
    )


class RuleUse(Struct, frozen=True):
    """One key of a dialect: in how many of the records it is for (``of``) something stands there."""

    dialect: str
    rule: str
    path: str
    found: int
    of: int
    remark: str


class RulesResult(Struct, frozen=True):
    """`dialect test --rules --format json`."""

    rules: tuple[RuleUse, ...]


def rules_sheet(rows: Sequence[RuleUse], full: bool) -> Sheet:
    """Rules with what they found; those that found nothing carry a remark. People are told the dialect where there are several."""
    columns: tuple[Column, ...] = (
        Column("dialect", "dialect", rank=2), Column("rule", "rule"), Column("path", "path"), Column("found", "found", "count"),
        Column("of", "of", "count"), Column("remark", "remark"),
    )  # fmt: skip
    if not full and len({row.dialect for row in rows}) == 1:
        columns = columns[1:]
    return Sheet(columns=columns, rows=tuple(tuple(getattr(row, column.key) for column in columns) for row in rows))


MEASURES: tuple[tuple[str, Callable[[Preview], Any]], ...] = (
    ("flows", lambda one: one.flows),
    ("triggers", lambda one: one.triggers),
    ("steps", lambda one: one.steps),
    ("links", lambda one: one.links),
    ("prompts", lambda one: one.prompts),
    ("models", lambda one: one.models),
    ("operations not classified", lambda one: len(one.unclassified)),
    ("read", lambda one: "" if one.read is None else percent_text(one.read)),
    ("places not read", lambda one: len(one.unread)),
)


def compared_sheet(first: tuple[str, Preview], second: tuple[str, Preview]) -> Sheet:
    """What two dialects make of the same files, side by side."""
    columns = (Column("what", "what"), Column(first[0], first[0]), Column(second[0], second[0]))
    rows = tuple((words, measure(first[1]), measure(second[1])) for words, measure in MEASURES)
    return Sheet(columns=columns, rows=rows)
