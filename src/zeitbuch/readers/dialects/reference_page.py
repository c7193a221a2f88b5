# The reference of the dialect language as a page: written from its table, so that no key is told that is not read.
"""docs/dialect-keys.md."""

from __future__ import annotations

from .reference import REFERENCE

_HEAD = """# Keys of a dialect

Every key of the dialect language; [dialects.md](dialects.md) says how they go together, [cookbook.md](cookbook.md) which of them a
structure needs. `at`, `to`, `refs`, `groups` and `all` are JSONPath queries (RFC 9535); all other places are dotted paths within one
record, of which a list takes the first that is there. `zeitbuch schema dialect` prints the same as a JSON Schema, for editors.
"""


def reference_page() -> str:
    """docs/dialect-keys.md."""
    parts = [_HEAD]
    for table in REFERENCE:
        header = f"## `{table.header}`" if table.header else "## The file"
        rows = [f"| `{key.name}` | {key.words} | `{key.example}` |" for key in table.keys]
        parts.append(
            "\n".join(
                [header, "", table.words, "", "| key | what it says | example |", "| --- | --- | --- |", *rows, ""]
            )
        )
    return "\n".join(parts)
