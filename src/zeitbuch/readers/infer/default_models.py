# A model that a flow names once, for those of its steps that name none: a field of the flow called as models are called, or one that holds
# what steps name as their model.
"""Finding the model that a flow names for its steps."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.paths import path_keys
from zeitbuch.readers.dialects.rules import StepRule

from .fields import is_model_key
from .flow_facts import columns_of_heads
from .survey import Path, dotted_path, value_at
from .vocabulary import words_of

if TYPE_CHECKING:
    from .evidence import Evidence

_SAY_NO_MORE = frozenset("model llm modell modele modelo modello default standard usual name".split())
_ASKING = ("model", "agent")
_SHORTEST, _LONGEST = 3, 70  # letters of a model's name


def claim_default_model(e: Evidence, step: StepRule, taken: set[str]) -> dict[str, str]:
    """The path for the [flow] table, with a claim; empty where all steps name their own model, or flows name none."""
    paths = [path_keys(path) for path in ([step.model] if isinstance(step.model, str) else step.model) if path]
    own = [_first_at(raw, paths) for raw in _asking_steps(e)]
    silent = own.count(None)
    found = _place_of_model(e, {name for name in own if isinstance(name, str)}, taken) if silent else ()
    if not found:
        return {}
    words = f"'{dotted_path(found)}' of a flow is the model of steps that name none: {count_words(silent, 'step')}"
    e.add_claim("flow model", words, {})
    return {"model": dotted_path(found)}


def _asking_steps(e: Evidence) -> list[dict[str, Any]]:
    sights = [sight for sample in e.found.samples for sight in sample.steps]
    return [sight.raw for sight in sights if e.kind_of(sight.raw) in _ASKING]


def _first_at(raw: dict[str, Any], paths: list[Path]) -> Any:
    return next((value for path in paths if (value := value_at(raw, path))), None)


def _place_of_model(e: Evidence, named: set[str], taken: set[str]) -> Path:
    columns = {
        path: [value for _, value in values]
        for path, values in columns_of_heads(e.found).items()
        if dotted_path(path) not in taken
    }
    good = [path for path, values in columns.items() if all(map(_may_be_model, values))]
    told = [path for path in good if _says_model(path) or (named and set(columns[path]) <= named)]
    return min(told, key=lambda path: (not _says_model(path), len(path), path), default=())


def _says_model(path: Path) -> bool:
    """Whether a field is called what models are called, and nothing else: a data model and a motor are other things."""
    return is_model_key(path) and all(word in _SAY_NO_MORE for word in words_of(path[-1]))


def _may_be_model(value: Any) -> bool:
    return type(value) is str and _SHORTEST <= len(value) <= _LONGEST and " " not in value
