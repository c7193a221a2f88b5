# A proposal as the text of a dialect file: every table says in a comment how sure it is and what it rests on, and the
# operations that nobody could classify stand at the end as rules to fill in.
"""Writing a proposed dialect as commented TOML."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import InlineTable, Table

from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.trial import Untouched
from zeitbuch.readers.infer.claims import Claim

from .evidence import literal_pattern
from .question_records import Question
from .questions import KIND_QUESTION, question_lines
from .suggest import Suggestion

_ORDER = (
    "signature", "beside", "text", "rows", "divide", "unwrap", "split", "pairs", "merge", "catalogue", "group", "gather",
    "flow", "step", "link", "adjacency", "pointer", "predecessors", "order", "tree", "holds", "outlet", "trigger", "placeholders", "kind",
)  # fmt: skip
_NOTES = {
    "beside": ("shape",), "text": ("shape",), "rows": ("shape",), "divide": ("shape",), "unwrap": ("shape",), "split": ("shape",),
    "pairs": ("shape",), "merge": ("shape",), "catalogue": ("shape",), "group": ("shape",), "gather": ("shape",),
    "flow": ("flow name", "flow state"),
    "step": ("steps", "operation", "id", "model", "prompts", "own condition"),
    "link": ("links",), "adjacency": ("links",), "pointer": ("links",), "predecessors": ("links",), "order": ("links",), "tree": ("links",),
    "outlet": ("outlets",), "trigger": ("triggers",), "placeholders": ("placeholders",), "kind": ("kinds",),
}  # fmt: skip
_FIRST = ("operation", "has", "kind", "trigger", "effect", "at", "role", "steps", "from", "to", "id", "name")
_SHORT = 60  # letters of an example
_ABOUT = {
    "signature": "A file is recognised when all of these select something (JSONPath, RFC 9535).",
    "flow": "One flow, and the dotted paths within it.",
    "step": "One step, and the dotted paths within it.",
    "holds": "Steps that stand inside steps: body (a scope), case (a branch), error (after a failure), attach (helpers).",
    "order": "CHECK THIS: nothing in these exports says how the steps are linked; they are taken to run as they stand.",
    "outlet": "What an outlet of a link means; others are cases of a decision.",
    "kind": "What an operation is; the first pattern that fits wins. Mend what is wrong: nothing else is guessed.",
}


def spell_dialect(made: Suggestion, sources: list[str], untouched: Sequence[Untouched] = ()) -> str:
    """The text of the dialect file; ``untouched`` are places of the export that none of its rules touches."""
    given: dict[str, Any] = msgspec.to_builtins(made.dialect)
    shown = ", ".join(sources[:4]) + (f" and {len(sources) - 4} more" if len(sources) > 4 else "")
    parts = [
        f"# Proposed by `zeitbuch dialect suggest` from {_clean_comment(shown)}.\n"
        "# Check it with `zeitbuch dialect test FILE --dialect THIS`, mend what is wrong, and keep it.\n"
        + tomlkit.dumps({key: given[key] for key in ("dialect", "name", "title") if key in given})
    ]
    claims = {claim.part: claim for claim in made.claims if not claim.of}
    for key in _ORDER:
        _spell_part(key, given, claims, parts)
    return "\n".join(parts) + _spell_questions(made.questions) + _spell_untouched(untouched)


def _spell_part(key: str, given: dict[str, Any], claims: dict[str, Claim], parts: list[str]) -> None:
    if key not in given:
        return
    said = [_ABOUT[key]] if key in _ABOUT else []
    for part in (*_NOTES.get(key, ()), *(("triggers",) if key == "kind" and "trigger" not in given else ())):
        if part in claims:
            said.append(claims[part].line)
    value = given[key]
    document = tomlkit.document()
    if isinstance(value, list):
        tables = tomlkit.aot()
        for entry in value:
            tables.append(_spell_table(entry))
        document.add(key, tables)
    else:
        document.add(key, _spell_table(value))
    parts.append("".join(f"# {_clean_comment(line)}\n" for line in said) + tomlkit.dumps(document).strip("\n") + "\n")


def _spell_questions(questions: Sequence[Question]) -> str:
    """The open questions as comments; below one about an operation the rule that would answer it."""
    if not questions:
        return ""
    lines = [
        "",
        "# Open questions, what most hangs on first. Answer with `zeitbuch dialect suggest ... --ask`, or mend the tables.",
    ]
    for number, question in enumerate(questions, 1):
        lines += ["", *[f"# {_clean_comment(line, keep_blanks=True)}" for line in question_lines(number, question)]]
        lines.append(f"#    in a file of answers: {msgspec.json.encode(question.id).decode()} = 1")
        if question.id.startswith(KIND_QUESTION):
            pattern = msgspec.json.encode(literal_pattern(question.id.removeprefix(KIND_QUESTION))).decode()
            lines += ["# [[kind]]", f"# operation = {pattern}", '# kind = ""']
    return "\n".join(lines) + "\n"


def _spell_untouched(places: Sequence[Untouched]) -> str:
    """What the proposal has no place for, as comments."""
    if not places:
        return ""
    lines = [
        "",
        "# No rule touches these, what most hangs on first: flows keep them as not read. A path above takes them in.",
    ]
    for one in places:
        example = " ".join(one.example.split())
        shown = f", such as '{example[:_SHORT]}{'…' if len(example) > _SHORT else ''}'" if example else ""
        told = count_words(one.values, "value")
        lines.append(f"# {_clean_comment(f'{one.place}: {told}{shown}')}")
    return "\n".join(lines) + "\n"


def _clean_comment(text: str, keep_blanks: bool = False) -> str:
    plain = "".join(letter if letter.isprintable() else " " for letter in text)
    return plain.rstrip() if keep_blanks else " ".join(plain.split())


def _spell_table(values: dict[str, Any]) -> Table:
    table = tomlkit.table()
    for key in sorted(values, key=lambda k: _FIRST.index(k) if k in _FIRST else len(_FIRST)):
        table.add(key, _spell_value(values[key]))
    return table


def _spell_value(value: Any) -> Any:
    if isinstance(value, dict):
        inline: InlineTable = tomlkit.inline_table()
        for key, inner in value.items():
            inline.add(key, _spell_value(inner))
        return inline
    if isinstance(value, list):
        array = tomlkit.array()
        for inner in value:
            array.append(_spell_value(inner))
        return array
    return value
