# Readers of JSON and YAML forms take values through a view, which remembers what was taken. What nobody took is unread, by
# construction: there is no list of names that are "understood" beside the code that reads them.
"""Views of an export that know what was read of it."""

from __future__ import annotations

import math
from typing import Any

from .clock_texts import duration_of
from .pointers import escape_key

_DONE = object()


class View:
    """An object of an export, with its place (a JSON pointer). A value counts as read once it was taken; ``text``,
    ``number`` and the like take it only when it is one. ``noise`` says that a value carries no meaning."""

    __slots__ = ("below", "hushed", "pointer", "taken", "value")

    def __init__(self, value: Any, pointer: str = "") -> None:
        self.value: dict[str, Any] = value if isinstance(value, dict) else {}
        self.pointer = pointer
        self.taken: set[str] = set()
        self.hushed: set[str] = set()
        self.below: dict[str, Any] = {}  # what stands below, as views

    def __contains__(self, key: str) -> bool:
        return key in self.value

    def __bool__(self) -> bool:
        return bool(self.value)

    def peek(self, key: str) -> Any:
        """A value that is only looked at."""
        return self.value.get(key)

    def take(self, key: str) -> Any:
        """A value as it stands, all of it."""
        self.taken.add(key)
        return self.value.get(key)

    def mark(self, *keys: str) -> None:
        """Values that were read by other means."""
        self.taken.update(keys)

    def noise(self, *keys: str) -> None:
        """Values that carry no meaning."""
        self.taken.update(keys)
        self.hushed.update(keys)

    def expect(self, key: str, *starts: str) -> None:
        """A value that carries no meaning as long as it is what it should be: one of these, or begins so when they end in a dot."""
        value = self.value.get(key)
        if isinstance(value, str) and any(
            value == start or (start[-1] == "." and value.startswith(start)) for start in starts
        ):
            self.noise(key)

    def text(self, key: str) -> str:
        """A scalar as text; empty when there is none."""
        value = self.value.get(key)
        if value is None or isinstance(value, dict | list):
            return ""
        self.taken.add(key)
        return (
            value if isinstance(value, str) else "true" if value is True else "false" if value is False else str(value)
        )

    def texts(self, key: str) -> list[str]:
        """A list of texts; what else stands in it is unread."""
        value = self.value.get(key)
        if not isinstance(value, list):
            return []
        self.below[key] = [_DONE if isinstance(item, str) else item for item in value]
        return [item for item in value if isinstance(item, str)]

    def number(self, key: str) -> float | None:
        """A finite number."""
        value = self.value.get(key)
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            return None
        self.taken.add(key)
        return float(value)

    def whole(self, key: str, least: int = 0) -> int | None:
        """A whole number, at least so large."""
        value = self.value.get(key)
        if isinstance(value, bool) or not isinstance(value, int) or value < least:
            return None
        self.taken.add(key)
        return value

    def flag(self, key: str) -> bool | None:
        """True or false."""
        value = self.value.get(key)
        if not isinstance(value, bool):
            return None
        self.taken.add(key)
        return value

    def duration(self, key: str) -> float | None:
        """Seconds of a duration in any common form."""
        found = duration_of(self.value.get(key))
        if found is not None:
            self.taken.add(key)
        return found

    def view(self, key: str) -> View:
        """The object under a key; an empty one when there is none, and then what stands there is unread."""
        held = self._held(key)
        return held if isinstance(held, View) else View({}, f"{self.pointer}/{escape_key(key)}")

    def views(self, key: str) -> list[View]:
        """The objects in the list under a key; what else stands in it is unread."""
        held = self._held(key)
        return [item for item in held if isinstance(item, View)] if isinstance(held, list) else []

    def nested(self, key: str) -> list[list[View]]:
        """The objects in the lists of the list under a key; what else stands there is unread."""
        held = self._held(key)
        listed = [item for item in held if isinstance(item, list)] if isinstance(held, list) else []
        return [[item for item in items if isinstance(item, View)] for items in listed]

    def _held(self, key: str) -> Any:
        if key not in self.below:
            self.below[key] = _wrapped(self.value.get(key), f"{self.pointer}/{escape_key(key)}")
        return self.below[key]

    def all_below(self) -> list[View]:
        """All objects one level below, also in lists."""
        return [view for key in self.value for view in _views_in(self._held(key))]

    def rest(self) -> dict[str, Any]:
        """What was not taken. What holds no value at all is left out."""
        found: dict[str, Any] = {}
        for key, value in self.value.items():
            if key in self.taken:
                continue
            left = _rest_of(self.below[key]) if key in self.below else value
            if left is not _DONE and has_values(left):
                found[key] = left
        return found


def noise_below(root: View) -> dict[str, Any]:
    """The values at and below an object that were called noise, by their places."""
    found: dict[str, Any] = {}
    stack = [root]
    while stack:
        view = stack.pop()
        found |= {f"{view.pointer}/{escape_key(key)}": value for key, value in view.value.items() if key in view.hushed}
        for held in reversed(list(view.below.values())):
            stack += _views_in(held)
    return found


def _views_in(held: Any) -> list[View]:
    if isinstance(held, View):
        return [held]
    return [view for item in held for view in _views_in(item)] if isinstance(held, list) else []


def _wrapped(value: Any, pointer: str) -> Any:
    if isinstance(value, dict):
        return View(value, pointer)
    if isinstance(value, list):
        return [_wrapped(item, f"{pointer}/{place}") for place, item in enumerate(value)]
    return value


def _rest_of(held: Any) -> Any:
    if isinstance(held, View):
        return held.rest() or _DONE
    if not isinstance(held, list):
        return held
    left = [_rest_of(item) for item in held]
    if all(item is _DONE or item is None for item in left):
        return _DONE
    return [{} if item is _DONE else item for item in left]


def has_values(value: Any) -> bool:
    """Whether a value is or holds any scalar but null, which says nothing."""
    stack = [value]
    while stack:
        item = stack.pop()
        if isinstance(item, dict):
            stack += item.values()
        elif isinstance(item, list):
            stack += item
        elif item is not None:
            return True
    return False
