# What files may hold and what results hold, as a page made of the schemas that `schema` prints: nothing is said of a key that the program does not read.
"""The reference of files and results."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from .schemas import SCHEMAS, schema_of


def schema_page(results: bool) -> str:
    """A page with every key of the files that people write, or of the results as JSON."""
    title, intro = _HEADS[results]
    lines = [f"# {title}", "", *intro, "", "| name | what it is |", "| --- | --- |"]
    rows = [row for row in SCHEMAS if row.is_result == results]
    lines += [f"| [`{row.name}`](#{row.name}) | {_cell(row.words)} |" for row in rows]
    for row in rows:
        lines += ["", f"## {row.name}", "", f"{row.words[0].upper()}{row.words[1:]}. `zeitbuch schema {row.name}`", ""]
        schema = schema_of(row.name)
        lines += _part_lines(schema)
        for name, part in sorted(schema.get("$defs", {}).items()):
            if part.get("properties"):
                lines += ["", f"### {row.name}: {name}", "", *_about(part), *_part_lines(part)]
    return "\n".join(lines) + "\n"


_HEADS = {
    False: (
        "Keys of files",
        [
            "Every file that people write, with all of its keys. Files are TOML unless something else is said; a key that is not known is refused, with",
            "its line and the nearest that is. [Editors](editors.md) take the same from the schemas.",
        ],
    ),
    True: (
        "Results as JSON",
        ["What `--format json` writes, key by key. Every document begins with `zeitbuch` (its kind) and `version`; amounts of money are text."],
    ),
}  # fmt: skip


def _about(part: dict[str, Any]) -> Iterator[str]:
    if part.get("description"):
        yield _cell(" ".join(part["description"].split()))
        yield ""


def _part_lines(part: dict[str, Any]) -> Iterator[str]:
    yield "| key | type | default |"
    yield "| --- | --- | --- |"
    needed = set(part.get("required", ()))
    for name, value in part.get("properties", {}).items():
        default = "required" if name in needed else f"`{json.dumps(value['default'])}`" if "default" in value else ""
        yield f"| `{name}` | {_type_words(value)} | {_cell(default)} |"


def _type_words(value: dict[str, Any]) -> str:
    if "$ref" in value:
        return str(value["$ref"]).rpartition("/")[2]
    if "anyOf" in value:
        return " or ".join(dict.fromkeys(_type_words(one) for one in value["anyOf"]))
    if "enum" in value:
        return ", ".join(f"`{json.dumps(one)}`" if one is not None else "none" for one in value["enum"])
    if "const" in value:
        return f"`{json.dumps(value['const'])}`"
    kind = value.get("type", "anything")
    if kind == "array":
        return f"list of {_type_words(value.get('items') or {})}"
    if kind == "object":
        inner = value.get("additionalProperties")
        return f"table of {_type_words(inner)}" if isinstance(inner, dict) and inner else "table"
    names: list[str] = kind if isinstance(kind, list) else [kind]
    return " or ".join(_KINDS.get(name, name) for name in names)


_KINDS = {"string": "text", "integer": "whole number", "boolean": "true or false", "null": "none"}


def _cell(text: str) -> str:
    return text.replace("``", "`").replace("|", "\\|").replace("<", "&lt;")
