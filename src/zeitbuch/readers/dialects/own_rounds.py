# A step that repeats itself, for the items of a list or until something holds, is, for all who count and explain, a loop with the step in it.
"""How loops go round, and loops around steps that repeat themselves."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Callable
from math import prod
from typing import TYPE_CHECKING, Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.bpmn_terms import repeat_name
from zeitbuch.core.model.canonical import Ids, mapped_link, mapped_step
from zeitbuch.core.model.outcomes import deciding_steps, is_inside, takes_faults
from zeitbuch.core.model.records import Flow, ItemFault, Link, OnFault, Ref, Repeat, Step
from zeitbuch.readers.input.pointers import escape_key

from .gates import free_id, spell_condition
from .paths import Getter, are_items, as_text, as_whole_number, make_getter, path_keys
from .placeholders import Placeholders

if TYPE_CHECKING:
    from .draft import Draft

# Fields of steps that repeat themselves -> those of loops.
OWN_ROUNDS = {"own_items": "items", "own_until": "until", "own_cap": "cap"}
_OF_REPEAT = ("items", "until", "as_long_as", "cap", "on_item_fault")
# Kinds that have rounds by themselves, or nothing that could be repeated.
NEVER_REPEATED = frozenset(("loop", "decide", "join", "end", "note", "group"))


class RoundsRule(NamedTuple):
    """Where a step may say over what, or until when, it repeats itself; the paths to both, for messages."""

    get: dict[str, Getter]
    ways: dict[str, list[tuple[tuple[str, ...], Getter]]]
    settings: tuple[str, ...]
    item_faults: dict[str, ItemFault]

    def repeats(self, raw: dict[str, Any]) -> bool:
        """Whether a step repeats itself: a highest number of rounds alone says nothing."""
        return any(_is_told(name, get(raw)) for name, ways in self.ways.items() for _, get in ways)


class Rounds(NamedTuple):
    """How one step repeats itself; ``word`` is the builder's own for it."""

    repeat: Repeat
    word: str
    pointer: str


def make_rounds_rule(
    get: dict[str, Getter], said: dict[str, str | list[str]], settings: str, item_faults: dict[str, ItemFault]
) -> RoundsRule | None:
    """The rule for the fields of ``OWN_ROUNDS`` that a dialect names; None where it names neither items nor an end."""
    known = {of_loops: name for name, of_loops in OWN_ROUNDS.items() if name in get}
    if "items" not in known and "until" not in known:
        return None
    readers = {of_loops: get[name] for of_loops, name in known.items()}
    if "on_item_fault" in get:
        readers["on_item_fault"] = get["on_item_fault"]
    ways = {of_loops: _ways_of(said[name]) for of_loops, name in known.items()}
    return RoundsRule(readers, ways, tuple(filter(None, settings.split("."))), item_faults)


def _ways_of(paths: str | list[str]) -> list[tuple[tuple[str, ...], Getter]]:
    places = [paths] if isinstance(paths, str) else paths
    return [(path_keys(path), make_getter(path)) for path in places if path]


def _is_told(name: str, value: Any) -> bool:
    """Whether a value says that there are rounds: a highest number of them alone does not, and once is none."""
    if name == "cap" or value is None or value is False or value in ("", [], {}):
        return False
    return name == "until" or (are_items(value) and not (type(value) is int and value <= 1))


def find_rounds(
    rule: RoundsRule, raw: dict[str, Any], pointer: str, places: Placeholders, names: dict[str, str]
) -> Rounds | None:
    """How a step repeats itself as written, or None."""
    for name in ("items", "until"):
        for keys, get in rule.ways.get(name, ()):
            if _is_told(name, get(raw)):
                place = pointer + "".join(f"/{escape_key(key)}" for key in keys)
                repeat = read_repeat(rule.get, raw, rule.item_faults, places, names)
                return Rounds(repeat, _word_of(keys, rule.settings), place)
    return None


def _word_of(keys: tuple[str, ...], settings: tuple[str, ...]) -> str:
    """The builder's word for the rounds of a step: the first key that is not where all settings are."""
    within = keys[len(settings) :] if settings and keys[: len(settings)] == settings else keys
    return next((key for key in within if key != "*"), "repeats")


def read_repeat(
    get: dict[str, Getter],
    raw: dict[str, Any],
    item_faults: dict[str, ItemFault],
    places: Placeholders,
    names: dict[str, str],
) -> Repeat:
    """How a loop goes round: over a list or what an expression names, so many times, or until something holds."""
    said = {name: read(raw) for name, read in get.items() if name in _OF_REPEAT}
    items, count = _items_and_count(said.get("items"))
    lasting = _spelled(said.get("as_long_as"))
    until = " or ".join(filter(None, (_spelled(said.get("until")), f"not ({lasting})" if lasting else "")))
    refs: tuple[Ref, ...] = places.in_text(items, names) + places.in_text(until, names)
    return Repeat(
        items=items or None,
        count=count,
        until=until or None,
        cap=as_whole_number(said.get("cap")),
        on_item_fault=item_faults.get(as_text(said.get("on_item_fault"))),
        refs=refs,
    )


def _items_and_count(value: Any) -> tuple[str, int | None]:
    """What a loop goes over, and how many that are where the export says so; a number says only how many."""
    if isinstance(value, list):
        return ", ".join(map(_item_words, value)), len(value)
    if isinstance(value, dict) and are_items(value):
        said = "; ".join(f"{name}: {', '.join(map(_item_words, inner))}" for name, inner in value.items())
        plain = not any(type(item) is dict for inner in value.values() for item in inner)
        return said, prod(map(len, value.values())) if plain else None  # objects may be what is left out, or more
    times = as_whole_number(value) if type(value) in (int, float, str) else None
    times = None if times is not None and times < 0 else times
    return ("" if times is not None or value is True else as_text(value)), times


def _item_words(value: Any) -> str:
    """An item that is written out, on one line."""
    if type(value) is dict:
        return " ".join(f"{name}={_item_words(inner)}" for name, inner in value.items())
    return " ".join(map(_item_words, value)) if type(value) is list else as_text(value)


def _spelled(value: Any) -> str:
    return "" if value in (None, True) else spell_condition(value)


def add_rounds(draft: Draft, outline: bool = False) -> None:
    """Puts a loop around each step of the draft that repeats itself. What led to the step leads to the loop, what left it leaves the
    loop; its helpers stay with it. An ``outline`` holds no texts."""
    taken = {*(step.id for step in draft.steps), *(trigger.id for trigger in draft.triggers)}
    scopes = {step.id: step.scope for step in draft.steps}
    loops: dict[str, str] = {}
    gathering: dict[str, str] = {}  # of the steps that run for many items
    made: list[Step] = []
    none_of_its_own = _never_in_loops(draft)
    routed = {link.source for link in draft.links if takes_faults(link)}  # where a failure leads on, it ends the rounds
    for step in draft.steps:
        rounds = draft.rounds.pop(step.id, None)
        if rounds is not None and step.id in none_of_its_own:
            draft.lose_rounds(step.id, rounds)
            rounds = None
        if rounds is None:
            made.append(step)
            continue
        key = loops[step.id] = free_id(f"{step.id}.{rounds.word}", taken)
        if step.id in routed and rounds.repeat.on_item_fault is None:
            rounds = rounds._replace(repeat=structs.replace(rounds.repeat, on_item_fault="stop"))
        loop = Step(id=key, kind="loop", scope=step.scope) if outline else _loop_around(step, key, rounds, draft)
        made += [loop, _inside_loop(step, key)]
        if rounds.repeat.until is None or rounds.repeat.items:
            gathering[step.id] = key
    reads = _Readers(gathering, scopes)
    draft.steps = [reads.of_all_rounds(step) for step in made] if gathering else made
    draft.links = [reads.link_of_all_rounds(link) for link in draft.links] if gathering else draft.links
    draft.links = [_around(link, loops, lambda one, two: is_inside(one, two, scopes)) for link in draft.links]


class _Readers:
    """Who takes something of steps that ran for many items (``gathering``: step -> its loop) gets what all rounds made, as long as it does not
    stand in them."""

    def __init__(self, gathering: dict[str, str], scopes: dict[str, str | None]) -> None:
        self.gathering, self.scopes = gathering, scopes
        self.steps = {loop: step for step, loop in gathering.items()}

    def of_all_rounds(self, step: Step) -> Step:
        mapped = mapped_step(step, self._ids_for(step.id))
        return structs.replace(mapped, id=step.id, scope=step.scope, about=step.about, unread=step.unread)

    def link_of_all_rounds(self, link: Link) -> Link:
        return structs.replace(link, refs=mapped_link(link, self._ids_for(link.source)).refs) if link.refs else link

    def _ids_for(self, reader: str) -> Ids:
        own: dict[str, str] = {}  # the repeated steps that the reader is, or stands in
        at: str | None = self.steps.get(reader, reader)
        while at is not None and at not in own:
            own[at] = at
            at = self.scopes.get(at)
        return Ids(parts=ChainMap(own, self.gathering))


def _never_in_loops(draft: Draft) -> set[str]:
    """Helpers, of which their host decides when they run, and steps that decide: their ways would begin anew in every round."""
    helpers = {link.source for link in draft.links if link.role == "attach"}
    return helpers | deciding_steps(Flow(id="", steps=tuple(draft.steps), links=tuple(draft.links)))


def _inside_loop(step: Step, key: str) -> Step:
    on_fault: OnFault = "stop" if step.on_fault == "route" else step.on_fault
    return structs.replace(step, scope=key, join=None, per_item=False, concurrency=None, on_fault=on_fault)


def _loop_around(step: Step, key: str, rounds: Rounds, draft: Draft) -> Step:
    return Step(
        id=key,
        kind="loop",
        name=repeat_name(step.title),
        operation=rounds.word,
        scope=step.scope,
        repeat=rounds.repeat,
        join=step.join,
        per_item=step.per_item,
        concurrency=step.concurrency,
        on_fault="route" if step.on_fault == "route" else "stop",
        origin=draft.origin_at(rounds.pointer),
    )


def _around(link: Link, loops: dict[str, str], inside: Callable[[str, str], bool]) -> Link:
    """The link, led to and from the loops around the steps that it joins."""
    source, target = link.source, link.target
    if link.role == "attach" or source == target or inside(source, target) or inside(target, source):
        return link
    if source not in loops and target not in loops:
        return link
    return structs.replace(link, source=loops.get(source, source), target=loops.get(target, target))
