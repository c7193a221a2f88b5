"""Whether steps and triggers are switched on, as the builder says it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from .field_checks import FORMS, Field, make_field, one_of
from .paths import as_flag, as_text, make_getter


class Switch:
    """Reads whether records are on: true at ``enabled``, or a word that ``switches`` says means on, and not true at ``disabled``."""

    def __init__(self, enabled: str | list[str], disabled: str | list[str], switches: Mapping[str, bool]) -> None:
        self.enabled, self.disabled = make_getter(enabled), make_getter(disabled)
        self.switches = switches
        self._places = {"enabled": enabled, "disabled": disabled}

    def is_on(self, raw: dict[str, Any]) -> bool:
        if self.switches:
            return self.switches.get(as_text(self.enabled(raw)), True)
        return as_flag(self.enabled(raw)) is not False and as_flag(self.disabled(raw)) is not True

    def fields(self) -> Iterable[Field]:
        """What must stand where it looks."""
        for name, paths in self._places.items():
            if paths:
                yield make_field(paths, one_of(self.switches) if name == "enabled" and self.switches else FORMS[name])
