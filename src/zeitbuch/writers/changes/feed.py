# Changes for other programs and for a chat: one JSON object a line, or ten lines of text.
"""Changes as JSON Lines, and in brief."""

from __future__ import annotations

from typing import Any

import msgspec

from zeitbuch.core.diff.records import FlowChanges
from zeitbuch.core.report.change_head import first_line, head_sentences
from zeitbuch.core.report.presentations import ChangesReport
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

MOST_LINES = 10
LETTERS = 200  # of a line of the brief form


def write_jsonl(report: ChangesReport, look: TextLook) -> str:
    """One object a change, with its flow; then one for each flow that could not be read."""
    lines = [_object_of(flow, index) for flow in report.changes.flows for index, _ in enumerate(flow.changes)]
    lines += [
        {"flow": lost.name, "flow_id": lost.id, "status": "unreadable", "missing_in": lost.missing_in}
        for lost in report.changes.unreadable
    ]
    return "".join(msgspec.json.encode(line).decode() + "\n" for line in lines)


def _object_of(flow: FlowChanges, index: int) -> dict[str, Any]:
    change = flow.changes[index]
    share = change.share
    month = share.month if share is not None else None
    return {
        "flow": flow.name,
        "flow_id": flow.id,
        "status": flow.status,
        "type": change.type,
        "topic": change.topic,
        "concern": change.concern,
        "weight": change.weight,
        "where": change.where,
        "old": change.old,
        "new": change.new,
        "step": change.step,
        "remarks": list(change.remarks),
        "old_place": str(change.old_origin) if change.old_origin is not None else "",
        "new_place": str(change.new_origin) if change.new_origin is not None else "",
        "month_share": format(month.amount, "f") if month is not None and not month.unknown else None,
    }


def write_brief(report: ChangesReport, look: TextLook) -> str:
    """At most ten lines: the head, then the changes to look at first."""
    found = report.changes
    said = head_sentences(found, report.body.currency)[: MOST_LINES - 2]
    room = MOST_LINES - len(said) - 1
    lines = [*said, *[f"{n}. {first_line(one, LETTERS)}" for n, one in enumerate(found.first[:room], 1)]]
    total = sum(len(flow.changes) for flow in found.flows)
    more = total - min(room, len(found.first))
    if more > 0:
        lines.append(f"and {more} more in {len(found.flows)} flows." if len(found.flows) > 1 else f"and {more} more.")
    return "".join(_cut(make_inert(line, keep_lines=False)) + "\n" for line in lines)


def _cut(line: str) -> str:
    return line if len(line) <= 2 * LETTERS else line[: 2 * LETTERS - 1] + "…"
