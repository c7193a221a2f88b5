# Bytes -> plain values (dicts, lists, scalars), with a place for every syntax error. No object construction.
"""Decoding of JSON and YAML exports."""

from __future__ import annotations

import json
import re
from collections import Counter
from functools import lru_cache
from typing import Any, Literal, NamedTuple

import msgspec

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.secrets.labels import replace_marks
from zeitbuch.readers.secrets.masker import Masker

from .decoder_plugins import decode_by_plugin, decoder_for
from .limits import Counts, Limits, measure_tree, too_large
from .sources import STDIN_NAME
from .tables import TABLES, decode_table

OWN_SUFFIXES = (".json", ".yaml", ".yml", ".xml", ".bpmn")
_BYTE = re.compile(r"\(byte (\d+)\)")
_DECODER = msgspec.json.Decoder()
_BOM = b"\xef\xbb\xbf"


_MARKS = (
    (b"\xff\xfe\x00\x00", "utf-32"),
    (b"\x00\x00\xfe\xff", "utf-32"),
    (b"\xff\xfe", "utf-16"),
    (b"\xfe\xff", "utf-16"),
)
# The first letter of JSON and of most YAML is of one byte: where the others are null tells the encoding (RFC 4627, section 3).
_NULLS = (
    (re.compile(rb"[^\0]\0\0\0", re.DOTALL), "utf-32-le"), (re.compile(rb"\0\0\0[^\0]", re.DOTALL), "utf-32-be"),
    (re.compile(rb"[^\0]\0[^\0]\0", re.DOTALL), "utf-16-le"), (re.compile(rb"\0[^\0]\0[^\0]", re.DOTALL), "utf-16-be"),
)  # fmt: skip


def as_utf8(raw: bytes) -> bytes:
    """The bytes of a text in UTF-8, when they are UTF-16 or UTF-32; XML says its encoding itself and stays as it is."""
    if b"\0" not in raw[:4] and raw[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        return raw
    name = next((name for mark, name in _MARKS if raw.startswith(mark)), "")
    name = name or next((name for form, name in _NULLS if form.match(raw)), "")
    try:
        text = raw.decode(name) if name else ""
    except UnicodeDecodeError:
        return raw
    return (
        raw if not text or text.lstrip("\ufeff \t\r\n")[:1] == "<" else text.lstrip("\ufeff").encode("utf-8", "replace")
    )


def _holds_more_texts(raw: bytes, texts: int) -> bool:
    """Whether a JSON text holds more than so many texts, keys among them: each stands between two quotes (RFC 8259, section 7),
    and all other quotes are escaped."""
    quotes = raw.count(b'"')
    if quotes <= 2 * texts:
        return False
    if b"\\" not in raw:
        return True
    return quotes - raw.replace(b"\\\\", b"").count(b'\\"') > 2 * texts


def repeated_keys(raw: bytes, form: str, counts: Counts) -> list[str]:
    """Keys that occur twice in one object of a JSON text of which ``counts`` was decoded: of two the first is lost with its value,
    so that the text holds more texts than what was decoded. What is then looked for costs nothing to all others."""
    if form != "json" or not _holds_more_texts(raw, counts.entries + counts.texts):
        return []
    found: dict[str, None] = {}

    def look(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        made = dict(pairs)
        if len(made) < len(pairs):
            count = Counter(key for key, _ in pairs)
            found.update(dict.fromkeys(key for key, times in count.items() if times > 1))
        return made

    try:
        json.loads(raw, object_pairs_hook=look)
    except (ValueError, RecursionError):
        return []
    return list(found)


def _origin_of_byte(raw: bytes, at: int) -> Origin:
    line = raw.count(b"\n", 0, at) + 1
    column = at - (raw.rfind(b"\n", 0, at) + 1) + 1
    return Origin("", line=line, column=column)


def _place_words(raw: bytes, at: int) -> str:
    place = _origin_of_byte(raw, at)
    return f"line {place.line}, column {place.column}"


def _check_utf8(raw: bytes) -> None:
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise fail(
            "utf8",
            f"expected UTF-8 text, found the byte 0x{raw[error.start]:02x} at {_place_words(raw, error.start)}",
            "export the file again as UTF-8, or convert it with iconv",
            _origin_of_byte(raw, error.start),
        ) from None


def _decode_json(raw: bytes, limits: Limits) -> Any:
    if raw.startswith(_BOM):
        raw = raw[3:]
    try:
        return _DECODER.decode(raw)
    except RecursionError:
        raise too_large("depth", limits.depth, "nesting too deep to decode") from None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        _check_utf8(raw)
        text = str(error)
        hit = _BYTE.search(text)
        place = int(hit[1]) if hit else len(raw)
        found = "the end of the file" if "truncated" in text else _BYTE.sub("", text).strip()
        raise fail(
            "json-syntax",
            f"expected complete JSON, found {found} at {_place_words(raw, place)}",
            "the download may have been cut off: export the file again",
            _origin_of_byte(raw, place),
        ) from None


@lru_cache(maxsize=1)
def _yaml_loader() -> Any:
    """The safe loader with YAML 1.2's plain scalars: `on` and dates stay text, only true and false are booleans."""
    import yaml

    class Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
        def construct_mapping(self, node: Any, deep: bool = False) -> dict[str, Any]:
            """Keys are texts as they are written, as everywhere else: YAML also has numbers, true and null as keys."""
            if not isinstance(node, yaml.MappingNode):
                return dict(super().construct_mapping(node, deep))  # tells that it is none
            self.flatten_mapping(node)
            return {_key_text(self, key): self.construct_object(value, deep=deep) for key, value in node.value}

    kept = ("tag:yaml.org,2002:null", "tag:yaml.org,2002:int", "tag:yaml.org,2002:float", "tag:yaml.org,2002:merge")
    Loader.yaml_implicit_resolvers = {
        first: [(tag, pattern) for tag, pattern in rules if tag in kept]
        for first, rules in yaml.SafeLoader.yaml_implicit_resolvers.items()
    }
    Loader.add_implicit_resolver(
        "tag:yaml.org,2002:bool", re.compile(r"^(?:true|True|TRUE|false|False|FALSE)$"), list("tTfF")
    )
    return Loader


def _key_text(loader: Any, node: Any) -> str:
    return node.value if type(node.value) is str else str(loader.construct_object(node, deep=True))


def _event_line(event: Any) -> int:
    return int(event.start_mark.line) + 1


def _decode_yaml(raw: bytes, limits: Limits) -> tuple[Any, list[str]]:
    """The value in a YAML text, and keys that occur twice in one object."""
    import yaml

    loader = _yaml_loader()
    try:
        # The events come before any value is built: nesting and repetition are refused while they are still text.
        sizes = _YamlSizes(limits)
        for event in yaml.parse(raw, Loader=loader):
            if isinstance(event, yaml.CollectionStartEvent):
                sizes.start_collection(event.anchor, isinstance(event, yaml.MappingStartEvent), _event_line(event))
            elif isinstance(event, yaml.CollectionEndEvent):
                sizes.end_collection()
            elif isinstance(event, yaml.NodeEvent):
                alias = event.anchor if isinstance(event, yaml.AliasEvent) else None
                sizes.add_node(alias, _event_line(event), getattr(event, "value", None))
        return yaml.load(raw, Loader=loader), list(sizes.repeated)
    except (yaml.YAMLError, ValueError) as error:
        _check_utf8(raw)
        mark: Any = getattr(error, "problem_mark", None)
        place = "an unknown place"
        origin = None
        if mark is not None:
            place = f"line {mark.line + 1}, column {mark.column + 1}"
            origin = Origin("", line=mark.line + 1, column=mark.column + 1)
        found = getattr(error, "problem", None) or str(error).splitlines()[0]
        if "nesting depth" in found:
            raise too_large("depth", limits.depth, "nesting too deep to decode", place) from None
        raise fail(
            "yaml-syntax", f"expected YAML, found {found} at {place}", "mend the file at that place", origin
        ) from None


class _YamlSizes:
    """How deep and how large a YAML document becomes, aliases written out, while only its events are known."""

    def __init__(self, limits: Limits) -> None:
        self.limits = limits
        self.open: list[tuple[str | None, bool]] = []  # anchor, whether a mapping
        self.sizes: list[int] = [0]  # values below each open collection
        self.children: list[int] = [0]
        self.anchored: dict[str, int] = {}
        self.keys: list[set[str]] = [set()]
        self.repeated: dict[str, None] = {}
        self.merge_at = 0  # how deep the mapping is whose merge has begun
        self.merged = 0

    def start_collection(self, anchor: str | None, mapping: bool, line: int) -> None:
        if len(self.open) >= self.limits.depth:
            raise too_large("depth", self.limits.depth, "deeper nesting", f"line {line}")
        self.open.append((anchor, mapping))
        self.sizes.append(0)
        self.children.append(0)
        self.keys.append(set())

    def end_collection(self) -> None:
        anchor, _ = self.open.pop()
        if len(self.open) == self.merge_at:
            self.merge_at = 0
        size = self.sizes.pop()
        self.children.pop()
        self.keys.pop()
        if anchor is not None:
            self.anchored[anchor] = size
        self._add(size)

    def add_node(self, alias: str | None, line: int, text: str | None = None) -> None:
        if text is not None and text != "<<" and self.open and self.open[-1][1] and self.children[-1] % 2 == 0:
            if text in self.keys[-1]:
                self.repeated[text] = None
            self.keys[-1].add(text)
        size = self.anchored.get(alias, 0) if alias is not None else 0
        self._count_merge(size, text, line)
        self._add(size)
        if self.sizes[-1] > self.limits.values:
            found = f"more than {self.limits.values:,} values once aliases are written out"
            raise too_large("values", self.limits.values, found, f"line {line}")

    def _count_merge(self, size: int, text: str | None, line: int) -> None:
        """What a merge ("<<: *a", "<<: [*a, *b]") copies: writing it out takes a parser far longer than an alias that is shared."""
        depth = len(self.open)
        if self.merge_at and size and depth <= self.merge_at + 1:
            self.merged += size
            if self.merged > self.limits.merged:
                raise too_large("merged", self.limits.merged, "more values merged into others", f"line {line}")
        if text == "<<":
            self.merge_at = depth
        elif depth == self.merge_at:
            self.merge_at = 0

    def _add(self, below: int) -> None:
        is_key = bool(self.open) and self.open[-1][1] and self.children[-1] % 2 == 0
        self.children[-1] += 1
        self.sizes[-1] += below + (not is_key)


class Decoded(NamedTuple):
    """What stands in a file. ``form`` says how it was written, ``raw`` are its bytes in UTF-8; XML is counted while it is parsed;
    ``repeated`` are keys that YAML was seen to hold twice in one object."""

    value: Any
    form: Literal["json", "yaml", "xml", "table", "toml", "plug-in"]
    raw: bytes = b""
    counted: int = 0
    repeated: tuple[str, ...] = ()


def decode_bytes(name: str, raw: bytes, limits: Limits) -> Decoded:
    """The value in a file, as it stands there.

    Raises ZeitbuchError for an empty file, wrong syntax, wrong encoding or a limit passed.
    """
    if not raw or raw.isspace():
        raise fail("empty", "expected a flow definition, found an empty file", "export the file again or remove it")
    if not name.endswith(OWN_SUFFIXES) and (plugin := decoder_for(name, raw)) is not None:
        return Decoded(decode_by_plugin(plugin, name, raw), "plug-in", raw)
    raw = as_utf8(raw)
    if name.endswith((".xml", ".bpmn")) or raw[:200].lstrip(_BOM + b" \t\r\n").startswith(b"<"):
        from .xml_tree import parse_xml

        element, count = parse_xml(raw, limits)
        return Decoded(element, "xml", raw, count)
    if name.endswith((".yaml", ".yml")) or (name == STDIN_NAME and raw[:200].lstrip()[:1] not in (b"{", b"[")):
        value, repeated = _decode_yaml(raw, limits)
        return Decoded(value, "yaml", raw, repeated=tuple(repeated))
    if name.endswith(TABLES):
        return Decoded(decode_table(raw, limits), "table", raw)
    if name.endswith(".toml"):
        from .toml_files import decode_toml

        return Decoded(decode_toml(raw, name), "toml", raw)
    return Decoded(_decode_json(raw, limits), "json", raw)


class Measured(NamedTuple):
    """A value without secrets, the number of scalar values in it, and keys that occur twice in one of its objects."""

    value: Any
    counted: int
    repeated: list[str]


def mask_decoded(decoded: Decoded, limits: Limits, masker: Masker, unmasked: bool = False) -> Measured:
    """The value measured and, unless the caller masks what it keeps of it (``unmasked``), with marks in the place of secrets.

    Raises ZeitbuchError when a limit is passed.
    """
    if decoded.form == "xml":
        from .xml_secrets import mask_elements

        mask_elements(decoded.value, decoded.raw, masker)
        return Measured(decoded.value, decoded.counted, [])
    value, raw = decoded.value, decoded.raw
    counts = Counts()
    keys: set[str] | None = None if unmasked else set()
    count = measure_tree(
        value, limits, keys, check_text=len(raw) > limits.text, plain=decoded.form == "json", counts=counts
    )
    if keys is not None:
        value = masker.mask_document(value, raw if decoded.form in ("json", "yaml") else None, keys)
    return Measured(value, count, [*decoded.repeated, *repeated_keys(raw, decoded.form, counts)])


def decode_document(name: str, raw: bytes, limits: Limits) -> tuple[Any, int]:
    """The value in a file with "a secret" in the place of every secret, and the number of scalar values in it. Raises as
    ``decode_bytes`` does."""
    value, count, _ = mask_decoded(decode_bytes(name, raw, limits), limits, Masker())
    return replace_marks(value, {}), count
