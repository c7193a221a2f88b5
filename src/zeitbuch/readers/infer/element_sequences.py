# In XML a step may be an element that is called what it does. Such elements count in the order in which they stand; those that hold them are
# told by elements of the trade in them, or by the order that changes from one place to the next, as that of fields does not.
"""Finding elements of XML whose elements are steps in order."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.readers.input.xml_tree import Element

from .vocabulary import guess_kinds

_SEVERAL, _MOSTLY = 3, 0.6  # names of elements, and the share of them that says something


def sequences_of(roots: list[Element]) -> frozenset[str]:
    """Names of the elements that hold steps by the names of these; empty where none do."""
    inner: dict[str, list[list[Element]]] = {}
    for element in (each for root in roots for each in _all_below(root)):
        if element.children:
            inner.setdefault(element.tag, []).append(element.children)
    found = {tag for tag, places in inner.items() if _holds_steps(places)}
    steps = _names_within(found, inner)
    # What holds nothing but steps, within a step or beside others, is a part of them: the ways of a decision, the body of a loop.
    parts = _names_within(steps, inner) | steps
    more = {tag for tag in parts & inner.keys() if _holds_known(inner[tag], steps)}
    return frozenset(found | more) if found else frozenset()


def _holds_known(places: list[list[Element]], steps: set[str]) -> bool:
    """Whether all elements are steps by their names, with something of their own: a text alone is what a step says."""
    every = [child for children in places for child in children]
    return all(
        (child.tag in steps or guess_kinds(child.tag)) and (child.attributes or child.children) for child in every
    )


def _names_within(tags: set[str], inner: dict[str, list[list[Element]]]) -> set[str]:
    """Names of the elements in those of some names."""
    return {child.tag for tag in tags for children in inner.get(tag, ()) for child in children}


def _all_below(element: Element) -> Iterator[Element]:
    stack = [element]
    while stack:
        one = stack.pop()
        yield one
        stack += one.children


def _holds_steps(places: list[list[Element]]) -> bool:
    """Whether most elements have something of their own, and their names are of the trade or stand in any order."""
    every = [child for children in places for child in children]
    names = {child.tag for child in every}
    own = sum(bool(child.attributes) for child in every)
    if len(names) < _SEVERAL or own < _MOSTLY * len(every):
        return False
    known = sum(bool(guess_kinds(name)) for name in names)
    return known >= _MOSTLY * len(names) or _stand_in_any_order(places)


def _stand_in_any_order(places: list[list[Element]]) -> bool:
    """Whether an element of one name stands before one of another here, and behind it there."""
    before: set[tuple[str, str]] = set()
    for children in places:
        seen: set[str] = set()
        for child in children:
            before |= {(name, child.tag) for name in seen if name != child.tag}
            seen.add(child.tag)
    return any((second, first) in before for first, second in before)
