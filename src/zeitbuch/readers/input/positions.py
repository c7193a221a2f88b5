# Line and column of a JSON pointer, found only when a message needs them: the file is read once more, so files without
# messages pay nothing.
"""Positions of pointers in JSON and YAML files."""

from __future__ import annotations

import json
import re
from codecs import BOM_UTF8
from collections.abc import Iterable, Mapping
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any

from msgspec import DecodeError, Raw, structs
from msgspec.json import Decoder

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Origin

from .decode import as_utf8
from .file_documents import one_document
from .joined_documents import document_of_row
from .limits import Limits
from .packages import package_members
from .sources import Held, is_package, load_input

_SPACE = re.compile(r"[ \t\r\n]*")
_COLON = re.compile(r"[ \t\r\n]*:[ \t\r\n]*")
_COMMA = re.compile(r"[ \t\r\n]*,[ \t\r\n]*")
_BLANKS = b" \t\r\n"
_members, _elements = Decoder(dict[str, Raw]), Decoder(list[Raw])
_scan_value = json.JSONDecoder(strict=False).scan_once  # type: ignore[attr-defined]


def pointer_keys(pointer: str) -> list[str]:
    """The keys of a JSON pointer (RFC 6901)."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def _end_of(pattern: re.Pattern[str], text: str, at: int) -> int:
    """Where a pattern that stands at a place ends, or -1."""
    found = pattern.match(text, at)
    return found.end() if found is not None else -1


def json_offset(text: str, pointer: str) -> int:
    """The offset of the deepest part of a pointer that is there: a member's key, or an element's value.

    Raises ValueError when the text is no JSON up to that place.
    """
    place = best = _end_of(_SPACE, text, 0)
    try:
        for part in pointer_keys(pointer):
            begun = _end_of(_SPACE, text, place + 1)
            if text[place : place + 1] == "{":
                best, place = _member(text, begun, part, best)
            elif text[place : place + 1] == "[" and part.isdecimal():
                place = _element(text, begun, int(part))
                best = max(place, best)
            else:
                return best  # a scalar, or the inside of a text
            if place < 0:
                return best
    except StopIteration:
        raise ValueError(f"expected JSON as far as {pointer}") from None
    return best


def _member(text: str, at: int, name: str, best: int) -> tuple[int, int]:
    """Where the key of a member begins and its value; (``best``, -1) when there is no such member."""
    while text[at : at + 1] == '"':
        key, end = scanstring(text, at + 1, False)
        value = _end_of(_COLON, text, end)
        if value < 0:
            raise StopIteration
        if key == name:
            return at, value
        at = _end_of(_COMMA, text, _scan_value(text, value)[1])
        if at < 0:
            break
    return best, -1


def _element(text: str, at: int, number: int) -> int:
    """Where an element of a list begins; -1 when there is none."""
    for _ in range(number):
        at = _end_of(_COMMA, text, _scan_value(text, at)[1])
        if at < 0:
            break
    return at


def quick_offset(raw: bytes, pointer: str) -> int | None:
    """The same offset in bytes, found without making the values that lie before it; None where the quick way does not tell (a key that is written
    with escapes or stands twice, a part that is not there, text that is no strict JSON): then the slow one does."""
    held, base = raw, 0
    best = len(raw) - len(raw.lstrip(_BLANKS))
    try:
        for part in pointer_keys(pointer):
            first = held.lstrip(_BLANKS)[:1]
            if first == b"{":
                place, at, value = _quick_member(held, part)
                best = base + place
            elif first == b"[" and part.isdecimal():
                at, value = _quick_element(held, int(part))
                best = base + at
            else:
                return None
            held, base = value, base + at
    except (DecodeError, LookupError):
        return None
    return best


def _quick_member(held: bytes, name: str) -> tuple[int, int, bytes]:
    """Where the key of a member stands in an object, where its value does, and the value. Raises LookupError."""
    value = bytes(_members.decode(held)[name])
    token, place = b'"' + name.encode() + b'"', 0
    while (place := held.find(token, place)) >= 0:
        colon = len(held) - len(held[place + len(token) :].lstrip(_BLANKS))
        at = len(held) - len(held[colon + 1 :].lstrip(_BLANKS))
        if held[colon : colon + 1] == b":" and _is_outermost(held[:place]):
            if held.startswith(value, at):
                return place, at, value
            break  # of a key that stands twice the last value was read, and the first is meant
        place += 1
    raise LookupError(name)


def _is_outermost(before: bytes) -> bool:
    """Whether what stands before a key is the beginning of an object of which it is a member."""
    try:
        _members.decode(before + b'"":0}')
    except DecodeError:
        return False
    return True


def _quick_element(held: bytes, number: int) -> tuple[int, bytes]:
    """Where an element stands in a list, and itself. Raises LookupError."""
    at = held.index(b"[") + 1
    for place, part in enumerate(_elements.decode(held)):
        value = bytes(part)
        at = held.index(value, at)  # only a comma and blanks stand before it
        if place == number:
            return at, value
        at += len(value)
    raise LookupError(number)


def _yaml_place(raw: bytes, pointer: str) -> tuple[int, int]:
    import yaml

    node: Any = yaml.compose(raw, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    mark = node.start_mark
    for part in pointer_keys(pointer):
        if isinstance(node, yaml.MappingNode):
            pair = next(((key, value) for key, value in node.value if getattr(key, "value", None) == part), None)
            if pair is None:
                break
            mark, node = pair[0].start_mark, pair[1]
        elif isinstance(node, yaml.SequenceNode) and part.isdecimal() and int(part) < len(node.value):
            node = node.value[int(part)]
            mark = node.start_mark
        else:
            break
    return mark.line + 1, mark.column + 1


def locate_pointer(name: str, raw: bytes, pointer: str) -> tuple[int, int] | None:
    """Line and column (1-based, in characters) of a pointer, or None when the file cannot be walked."""
    try:
        if name.endswith((".yaml", ".yml")):
            return _yaml_place(raw, pointer)
        plain = as_utf8(raw).removeprefix(BOM_UTF8)
        quick = quick_offset(plain, pointer)
        if quick is not None:
            line = plain[plain.rfind(b"\n", 0, quick) + 1 : quick]
            return plain.count(b"\n", 0, quick) + 1, len(line.decode()) + 1
        text = plain.decode()
        place = json_offset(text, pointer)
    except (ValueError, RecursionError, IndexError, AttributeError):
        return None
    except Exception:  # the YAML library has errors of its own; a position is never worth a failure
        return None
    return text.count("\n", 0, place) + 1, place - text.rfind("\n", 0, place)


def _raw_bytes(origin: Origin, limits: Limits, kept: Mapping[str, Held]) -> bytes | None:
    if origin.source in kept:
        return one_document(origin.source, origin.member or "", kept[origin.source].data)
    try:
        item = load_input(origin.source, limits)
        if not isinstance(item.data, bytes):
            return None
        if origin.member is None:
            return item.data
        if not is_package(origin.source):
            return one_document(origin.source, origin.member, item.data)
        inside = (m for m in package_members(origin.source, item.data, limits) if m.member == origin.member)
        found = next(inside, None)
        return found.data if found is not None and isinstance(found.data, bytes) else None
    except ZeitbuchError:
        return None


def place_problems(problems: Iterable[Problem], limits: Limits, kept: Mapping[str, Held]) -> list[Problem]:
    """The problems with line and column where a pointer can be found in its file; ``kept`` holds standard input. Files are read one after the
    other, however the problems are ordered: only one is held."""
    result = list(problems)
    by_file: dict[tuple[str, str | None], list[int]] = {}
    for number, problem in enumerate(result):
        origin = problem.origin
        if origin is not None and origin.pointer and origin.line is None:
            by_file.setdefault((origin.source, origin.member), []).append(number)
    for (source, member), numbers in by_file.items():
        raw = _raw_bytes(Origin(source, member=member), limits, kept)
        for number in numbers if raw is not None else ():
            origin = result[number].origin
            assert origin is not None and raw is not None
            name = member or source
            part, pointer = document_of_row(name, raw, origin.pointer) or (raw, origin.pointer)
            place = locate_pointer(name, part, pointer)
            if place is not None:
                placed = structs.replace(origin, line=place[0], column=place[1])
                result[number] = structs.replace(result[number], origin=placed)
    return result
