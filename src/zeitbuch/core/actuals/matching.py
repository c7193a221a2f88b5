# A log calls things as its platform does. A name is taken for one of the estate where it is that, or the mapping says so; what is only near
# is told and never counted with it.
"""Names of the log and those of the estate."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Literal

from msgspec import Struct
from rapidfuzz import fuzz, process

Kind = Literal["exact", "mapped", "renamed", "near", "ambiguous", "none"]
NEAR = 84.0  # likeness of two names, of 100
_SIGNS = re.compile(r"[\W_]+")


class NameMatch(Struct, frozen=True):
    """A name of the log, what it is in the estate (an id; empty where nothing is known), how that is known, and what it may be."""

    name: str
    kind: Kind
    id: str = ""
    near: tuple[str, ...] = ()


def folded_name(name: str) -> str:
    """A name without what people write differently: case, blanks, signs."""
    return _SIGNS.sub(" ", name).strip().casefold()


class Names:
    """The names of some things of the estate by which a log may call them. ``mapped``: name of the log -> name or id in the estate; ``former``
    are names that they once had, which hold where nothing has them now."""

    def __init__(
        self,
        known: Mapping[str, Iterable[str]],
        mapped: Mapping[str, str] | None = None,
        former: Mapping[str, Iterable[str]] | None = None,
    ) -> None:
        self.exact: dict[str, str] = {}
        self.folded: dict[str, dict[str, None]] = {}
        self.titles: dict[str, str] = {}
        for key, names in known.items():
            for name in (key, *names):
                if name:
                    self.exact.setdefault(name, key)
                    self.folded.setdefault(folded_name(name), {})[key] = None
                    self.titles.setdefault(name, key)
        self.former: dict[str, dict[str, None]] = {}
        for key, names in (former or {}).items():
            for name in names:
                self.former.setdefault(folded_name(name), {})[key] = None
        self.mapped = mapped or {}
        self._kept: dict[str, NameMatch] = {}

    def match(self, name: str) -> NameMatch:
        """What a name of the log is."""
        found = self._kept.get(name)
        if found is None:
            found = self._kept[name] = self._find(name)
        return found

    def _find(self, name: str) -> NameMatch:
        if name in self.mapped:
            meant = self.mapped[name]
            key = self.exact.get(meant)
            return NameMatch(name, "mapped", key) if key is not None else NameMatch(name, "none", near=(meant,))
        if name in self.exact:
            return NameMatch(name, "exact", self.exact[name])
        same = list(self.folded.get(folded_name(name), ()))
        if len(same) == 1 and name.strip():
            return NameMatch(name, "exact", same[0])
        once = list(self.former.get(folded_name(name), ())) if name.strip() and not same else []
        if len(once) == 1:
            return NameMatch(name, "renamed", once[0])
        if same := same or once:
            return NameMatch(name, "ambiguous", near=tuple(same))
        near = process.extract(folded_name(name), list(self.folded), scorer=fuzz.ratio, score_cutoff=NEAR, limit=3)
        keys = dict.fromkeys(key for found, _, _ in near for key in self.folded[found])
        return NameMatch(name, "near", near=tuple(keys)) if keys and name.strip() else NameMatch(name, "none")
