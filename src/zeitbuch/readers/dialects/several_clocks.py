# A trigger may hold several clocks. Each of them starts the flow by itself: it is as many triggers, which lead where the one does.
"""Triggers with several schedules."""

from __future__ import annotations

from itertools import count
from typing import TYPE_CHECKING, Any

from msgspec import structs

from zeitbuch.core.model.records import Schedule

from .paths import Getter, as_text
from .schedules import schedule_of_clock

if TYPE_CHECKING:
    from .draft import Draft

_SEVERAL = 2


def several_clocks(get: dict[str, Getter], raw: dict[str, Any]) -> list[Schedule]:
    """The schedules of a trigger whose field for the clock holds several; none where it holds one or nothing."""
    value = get["cron"](raw) if "cron" in get else None
    texts = [text for item in value if (text := as_text(item))] if type(value) is list else []
    if len(texts) < _SEVERAL:
        return []
    zone = get["zone"](raw) if "zone" in get else None
    zones = zone if type(zone) is list and len(zone) == len(texts) else [zone] * len(texts)
    said = [as_text(one) or None for one in zones]
    return [
        schedule_of_clock(text, one) or Schedule(cron=text, zone=one) for text, one in zip(texts, said, strict=True)
    ]


def part_clocks(draft: Draft) -> None:
    """Makes of a trigger with several schedules as many triggers."""
    taken = {*(step.id for step in draft.steps), *(trigger.id for trigger in draft.triggers)}
    for place, trigger in enumerate(list(draft.triggers)):
        clocks = draft.clocks.pop(trigger.id, [])
        if clocks:
            draft.triggers[place] = structs.replace(trigger, schedule=clocks[0])
        for clock in clocks[1:]:
            key = next(one for number in count(2) if (one := f"{trigger.id}-{number}") not in taken)
            taken.add(key)
            draft.triggers.append(structs.replace(trigger, id=key, schedule=clock, unread={}))
            draft.links += [structs.replace(link, source=key) for link in draft.links if link.source == trigger.id]
