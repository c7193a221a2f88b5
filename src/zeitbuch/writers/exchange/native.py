# The native form written: the model as YAML with prompts as readable blocks, or as JSON.
"""Writing the native form."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import yaml
from msgspec import structs

from zeitbuch.core.model.records import FORMAT_VERSION, Estate, Flow
from zeitbuch.core.model.secret_labels import without_digests
from zeitbuch.writers.escape.text import escape_json
from zeitbuch.writers.theme.terminal import TextLook


def _bare_flow(flow: Flow) -> Any:
    """A flow as plain values. Origins stay behind: they say where a record stands, and that place is now another."""
    return msgspec.to_builtins(
        structs.replace(
            without_digests(flow),
            origin=None,
            findings=(),  # they are found anew when it is read
            triggers=tuple(structs.replace(trigger, origin=None) for trigger in flow.triggers),
            steps=tuple(structs.replace(step, origin=None) for step in flow.steps),
            links=tuple(structs.replace(link, origin=None) for link in flow.links),
        )
    )


def _native_document(estate: Estate) -> dict[str, Any]:
    return {"zeitbuch": FORMAT_VERSION, "flows": [_bare_flow(flow) for flow in estate.flows]}


class _Dumper(yaml.SafeDumper):
    """Texts of several lines as blocks; no anchors."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


def _represent_text(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    lines = text.split("\n")
    style = "|" if len(lines) > 1 and all(line == line.rstrip() for line in lines) else None
    if not all(line.isprintable() for line in lines):
        style = '"'  # what YAML would fold or drop is written as an escape
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style=style)


_Dumper.add_representer(str, _represent_text)


def to_yaml(estate: Estate) -> str:
    """The estate in the native form as YAML."""
    return dump_yaml([_native_document(estate)])


def dump_yaml(documents: Sequence[Any]) -> str:
    """Documents as one YAML text, texts of several lines as blocks."""
    texts = [yaml.dump(one, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=110) for one in documents]
    # Texts with controls stand in double quotes, where YAML has the escapes of JSON.
    return escape_json("---\n".join(texts))


def to_json(estate: Estate) -> str:
    """The estate in the native form as JSON."""
    return escape_json(msgspec.json.format(msgspec.json.encode(_native_document(estate)), indent=1).decode()) + "\n"


def write_yaml(estate: Estate, look: TextLook) -> str:
    """The native form as YAML."""
    return to_yaml(estate)


def write_json(estate: Estate, look: TextLook) -> str:
    """The native form as JSON."""
    return to_json(estate)
