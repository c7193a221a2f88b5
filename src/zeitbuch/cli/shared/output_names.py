# `-o maps/{flow}.svg` names a file for each flow: what stands in braces is filled in by each.
"""Output files named by a template."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from zeitbuch.core.model.plain_names import plain_name
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Flow
from zeitbuch.writers.escape.file_names import file_names

# What may stand in braces -> what it is of a flow. The name of a flow is made unique; whatever else is the same for several stays so.
_FIELDS: dict[str, Callable[[Flow], str]] = {
    "flow": lambda flow: flow.title,
    "id": lambda flow: flow.id,
    "owner": lambda flow: flow.owners[0] if flow.owners else "no-owner",
    "environment": lambda flow: flow.environment or "no-environment",
    "folder": lambda flow: flow.folder or "no-folder",
}
FIELD_WORDS = ", ".join(f"{{{name}}}" for name in _FIELDS)
_BRACES = re.compile(r"\{([^{}/]*)\}")


def is_template(output: str | None) -> bool:
    """Whether the name of an output has something in braces."""
    return bool(output and _BRACES.search(output))


def named_outputs(template: str, flows: Sequence[Flow]) -> list[str]:
    """The file of each flow, all different. Raises ZeitbuchError for a field that is not known, and where two flows would be one file."""
    unknown = [name for name in _BRACES.findall(template) if name not in _FIELDS]
    if unknown:
        raise fail("option", f"expected one of {FIELD_WORDS} in -o, found {{{unknown[0]}}} in {template}")
    titles = file_names([flow.title for flow in flows])

    def spelled(place: int) -> str:
        flow = flows[place]
        return _BRACES.sub(
            lambda found: titles[place] if found[1] == "flow" else plain_name(_FIELDS[found[1]](flow)), template
        )

    owner: dict[str, Flow] = {}
    paths = [spelled(place) for place in range(len(flows))]
    for path, flow in zip(paths, flows, strict=True):
        other = owner.setdefault(path, flow)
        if other is not flow:
            raise fail(
                "option",
                f"expected a file of its own for each flow, found {path} for ‘{other.title}’ and ‘{flow.title}’",
                f"add {{flow}} to -o {template}",
            )
    return paths
