# The one way to read a TOML file of ours or of a user's: rate cards, assumptions, scenarios, dialects, the workspace. What a file may
# cost is counted in its text, before a parser builds anything.
"""Reading TOML files."""

from __future__ import annotations

import math
import os
import re
import select
import stat
import time
import tomllib
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any, NamedTuple, TypeVar

import msgspec

from zeitbuch.core.model.message_codes import MessageCode
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Origin

from .toml_lines import line_of

T = TypeVar("T")
MOST_BYTES = 8_388_608
MOST_DEPTH = 64  # of brackets, and parts of a dotted key
MOST_DIGITS = 400  # of one number
_WAIT = 10.0  # seconds for a pipe that nobody writes to


@lru_cache(maxsize=1)
def _tokens() -> re.Pattern[str]:
    """The parts of a TOML text. Compiled when first needed: that takes longer than a small file."""
    return re.compile(
        r'"""(?:\\.|[^\\])*?"""|\'\'\'.*?\'\'\'|"(?:\\.|[^"\\\n])*"|\'[^\'\n]*\'|#[^\n]*'
        r"|(?P<open>[\[{])|(?P<close>[\]}])|(?P<dot>\.)|(?P<number>[+\-]?\d[\d_]*)|(?P<end>[\n=,])|[^\s\"'#\[\]{}.=,\n]+",
        re.DOTALL,
    )


class TomlKind(NamedTuple):
    """A sort of TOML file: what it is called, the schema that says what it may hold, the codes of its messages (cannot be read, is no
    TOML, holds what it may not), and how a number with a point is read."""

    words: str
    schema: str
    unreadable: MessageCode
    syntax: MessageCode
    key: MessageCode
    parse_float: Callable[[str], Any] = float


def load_toml(path: str, kind: type[T], what: TomlKind, renamed: dict[str, str] | None = None) -> tuple[T, str]:
    """The records of a TOML file and its text; ``renamed`` are keys that have other names now.

    Raises ZeitbuchError with the line when it cannot be read, is too large or is wrong.
    """
    try:
        raw = _read_bytes(path)
    except OSError as error:
        found = error.strerror or error
        raise fail(
            what.unreadable,
            f"expected {what.words} (TOML, UTF-8), found: {found}",
            "check path and rights",
            Origin(path),
        ) from None
    if len(raw) > MOST_BYTES:
        raise _too_much(f"at most {MOST_BYTES:,} bytes", "a larger file", Origin(path))
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        raise fail(
            what.unreadable,
            f"expected {what.words} (TOML, UTF-8), found the byte 0x{raw[error.start]:02x}",
            "save the file as UTF-8",
            Origin(path, line=line),
        ) from None
    return parse_toml(text, path, kind, what, renamed), text


def _decoded(text: str, path: str, what: TomlKind) -> dict[str, Any]:
    _check_sizes(text, path)
    try:
        return tomllib.loads(text.replace("\r\n", "\n"), parse_float=what.parse_float)
    except (tomllib.TOMLDecodeError, ValueError, ArithmeticError) as error:
        place = re.search(r"line (\d+), column (\d+)", str(error))
        line, column = (int(place[1]), int(place[2])) if place else (text.count("\n") + 1, None)
        origin = Origin(path, line=line, column=column)
        raise fail(what.syntax, f"expected TOML, found: {error}", "mend the file at that line", origin) from None
    except RecursionError:
        raise _too_much(f"at most {MOST_DEPTH} levels", "deeper nesting", Origin(path)) from None


_EXPORT = TomlKind("an export", "dialect", "source-unreadable", "toml-syntax", "toml-syntax")


def decode_toml(raw: bytes, name: str) -> dict[str, Any]:
    """What stands in a TOML file of a builder; dates and times as texts. Raises ZeitbuchError when it is none or too large."""
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        message = f"expected UTF-8 text, found the byte 0x{raw[error.start]:02x}"
        raise fail(
            "utf8", message, "save the file as UTF-8", Origin("", line=raw.count(b"\n", 0, error.start) + 1)
        ) from None
    found: dict[str, Any] = _with_texts(_decoded(text, "", _EXPORT))
    return found


def _with_texts(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _with_texts(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_with_texts(item) for item in value]
    return value if isinstance(value, str | bool | int | float) else value.isoformat()


def parse_toml(text: str, path: str, kind: type[T], what: TomlKind, renamed: dict[str, str] | None = None) -> T:
    """The records in the text of a TOML file. Raises ZeitbuchError as ``load_toml`` does."""
    data = _decoded(text, path, what)
    for pointer, number in _numbers_in(data):
        if not math.isfinite(number):
            origin = Origin(path, line=line_of(text, pointer))
            raise fail(what.key, f"expected a finite number, found {number}", "write the number out", origin)
    try:
        return msgspec.convert(data, kind)
    except (msgspec.ValidationError, OverflowError) as error:
        origin = Origin(path, line=line_of(text, _pointer_in_message(str(error))))
        from .toml_words import words_of_error  # only for what is wrong

        words = words_of_error(str(error), kind, renamed or {})
        hint = words.hint or f"`zeitbuch schema {what.schema}` prints what the file may hold"
        raise fail(what.key, words.message, hint, origin) from None


def _read_bytes(path: str) -> bytes:
    """The bytes of a file, at most one more than the limit. A pipe is waited for; what gives no end is cut off."""
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        mode = os.fstat(handle).st_mode
        if stat.S_ISDIR(mode):
            raise IsADirectoryError(0, "a folder")
        parts: list[bytes] = []
        left, until = MOST_BYTES + 1, time.monotonic() + _WAIT
        while left > 0:
            if stat.S_ISFIFO(mode) and not select.select([handle], [], [], max(0.0, until - time.monotonic()))[0]:
                raise OSError(0, f"a pipe that gave nothing for {_WAIT:.0f} seconds")
            try:
                more = os.read(handle, min(left, 1 << 20))
            except BlockingIOError:
                continue
            if not more and (parts or not stat.S_ISFIFO(mode) or time.monotonic() > until):
                break
            if not more:
                time.sleep(0.02)  # a pipe that nobody has opened yet reads as empty
                continue
            parts.append(more)
            left -= len(more)
        return b"".join(parts)
    finally:
        os.close(handle)


def _check_sizes(text: str, path: str) -> None:
    """Refuse what a parser would need long or much memory for: nesting, keys of many parts, long numbers."""
    depth = parts = 0
    for token in _tokens().finditer(text):
        kind = token.lastgroup
        if kind == "open":
            depth, parts = depth + 1, 0
        elif kind == "close":
            depth, parts = max(0, depth - 1), 0
        elif kind == "dot":
            parts += 1
        elif kind == "end":
            parts = 0
        if depth > MOST_DEPTH or parts > MOST_DEPTH:
            words = "deeper nesting" if depth > MOST_DEPTH else "a key of more parts"
            line = text.count("\n", 0, token.start()) + 1
            raise _too_much(f"at most {MOST_DEPTH} levels", words, Origin(path, line=line))
        if kind == "number" and len(token[0]) > MOST_DIGITS:
            line = text.count("\n", 0, token.start()) + 1
            raise _too_much(
                f"numbers of at most {MOST_DIGITS} digits", f"one of {len(token[0]):,}", Origin(path, line=line)
            )


def _too_much(allowed: str, found: str, origin: Origin) -> ZeitbuchError:
    return fail("toml-size", f"expected {allowed} in a TOML file, found {found}", "divide the file, or mend it", origin)


def _numbers_in(data: Any) -> Iterator[tuple[str, Any]]:
    """The numbers with a point in a tree, with their pointers."""
    stack: list[tuple[str, Any]] = [("", data)]
    while stack:
        pointer, value = stack.pop()
        if isinstance(value, dict):
            stack += [(f"{pointer}/{key}", item) for key, item in value.items()]
        elif isinstance(value, list):
            stack += [(f"{pointer}/{place}", item) for place, item in enumerate(value)]
        elif not isinstance(value, (str, bool, int)) and hasattr(value, "__float__"):
            yield pointer, value


def _pointer_in_message(message: str) -> str:
    """The place in a message of the decoder ('... - at `$.model[0].price`') as a pointer; an unknown key itself."""
    place = re.search(r"at `\$([^`]*)`", message)
    path = re.sub(r"\[(\d+)\]", r"/\1", (place[1] if place else "").replace("[...]", "").replace(".", "/"))
    key = re.search(r"unknown field `([^`]*)`", message)
    return path + (f"/{key[1]}" if key else "")
