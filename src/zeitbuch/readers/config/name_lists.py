# Names of people in many languages, from the lists of a library that is kept for them; words of every day from the same library, so that a bill and a house stay
# what they are.
"""Lists of names."""

from __future__ import annotations

import calendar
import functools
import re
from collections.abc import Iterator
from importlib import import_module
from pkgutil import iter_modules
from typing import Any

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.report.brief.private_words import NameLists

_WORD = re.compile(r"[^\W\d_]{2,}")


# Languages are asked for in prompts everywhere, and some are family names as well.
_LANGUAGES = frozenset(
    "arabic chinese czech danish dutch english finnish french german greek hindi hungarian italian japanese korean latin norwegian polish portuguese romanian russian "
    "spanish swedish turkish ukrainian deutsch englisch französisch dänisch polnisch türkisch".split()
)


def calendar_words() -> Iterator[list[str]]:
    """Months and days of the week, in small letters."""
    for names in (calendar.month_name, calendar.day_name, calendar.month_abbr, calendar.day_abbr):
        yield [name.casefold() for name in names if name]


@functools.cache
def name_lists() -> NameLists:
    """Given and family names of all languages of the library, and ordinary words. Raises ZeitbuchError when it is not installed."""
    with telling_missing():
        import faker.providers.lorem as words
        import faker.providers.person as people
    given: set[str] = set()
    family: set[str] = set()
    for provider in _providers(people):
        for name in dir(provider):
            if "first_name" in name or "last_name" in name:
                (given if "first" in name else family).update(_words_of(getattr(provider, name)))
    ordinary = {word for row in KINDS.values() for word in _words_of(row.words)}
    for provider in _providers(words):
        ordinary.update(_words_of(getattr(provider, "word_list", ())))
    ordinary.update(_LANGUAGES, *calendar_words())
    return NameLists(frozenset(given), frozenset(family), frozenset(ordinary))


def _providers(package: Any) -> Iterator[type]:
    for module in iter_modules(package.__path__):
        if module.ispkg:
            yield import_module(f"{package.__name__}.{module.name}").Provider


def _words_of(value: Any) -> Iterator[str]:
    """The words of lists, in small letters."""
    if isinstance(value, str):
        yield from [word.casefold() for word in _WORD.findall(value)]
    elif isinstance(value, list | tuple | dict | set | frozenset):
        for item in value:
            yield from _words_of(item)
