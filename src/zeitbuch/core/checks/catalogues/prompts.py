"""The prompts of an estate: equal texts are one row."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column
from zeitbuch.core.pricing.languages import language_of
from zeitbuch.core.pricing.token_count import count_tokens

from .records import Catalogue, Entry, Uses, all_steps


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[tuple[str, str], tuple[Uses, list[Step]]] = {}
    for flow, step in all_steps(estate):
        for prompt in step.model.prompts if step.model is not None else ():
            uses, steps = found.setdefault((prompt.role, prompt.text), (Uses(), []))
            uses.add(flow, step)
            steps.append(step)
    near = {id(step): said for rows in estate.near_prompts.values() for step, *said in rows}
    for (role, text), (uses, steps) in found.items():
        marks = [
            f"nearly that of {where} ({what})"
            for step in steps
            for where, what in [near.get(id(step), ("", ""))]
            if where
        ]
        if len(uses.places) > 1:
            marks.append(f"in {len(uses.places)} places")
        yield {
            "text": " ".join(text.split()), "role": role, "language": language_of(text, text.lower().split()), "tokens": count_tokens(text),
            **uses.columns, "marks": marks,
        }  # fmt: skip


CATALOGUE = Catalogue(
    "prompts", "prompt texts, with role, language and tokens", (
        Column("text", "prompt", least=40), Column("role", "role", rank=1), Column("language", "language", rank=1),
        Column("tokens", "tokens", "count"),
    ), _rows,
)  # fmt: skip
