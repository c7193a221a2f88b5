"""What ways lead to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping


def reached_from(starts: Iterable[str], leaving: Mapping[str, Iterable[str]], without: str = "") -> dict[str, None]:
    """All that some places lead to, they themselves among it, the nearest first; ``leaving`` says where each leads to, and nothing is
    reached through the place ``without``."""
    found = {start: None for start in starts if start != without}
    waiting = list(found)
    for place in waiting:
        for target in leaving.get(place, ()):
            if target != without and target not in found:
                found[target] = None
                waiting.append(target)
    return found
