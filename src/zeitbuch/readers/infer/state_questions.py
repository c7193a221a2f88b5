# Whether flows are on, whether steps are, and when they run: words of a builder that may say so and are asked about.
"""Questions about states of flows and steps."""

from __future__ import annotations

from functools import partial
from typing import Any

from msgspec import structs

from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.paths import as_text, path_keys
from zeitbuch.readers.dialects.rules import Dialect

from .claims import Claim
from .evidence import Evidence
from .own_conditions import shown_conditions
from .own_rounds import PART as REPEATS
from .own_rounds import shown_rounds
from .question_records import Answer, Question, keep_same, no_other
from .state_words import FLAGS, state_of_word
from .survey import dotted_path, values_at

_MOST_SHOWN = 6


def about_state(e: Evidence, dialect: Dialect, claims: dict[tuple[str, str], Claim]) -> list[Question]:
    """What says whether a flow is on, where that is not sure."""
    claim = claims.get(("flow state", ""))
    if claim is None:
        return []
    path = dotted_path(e.doubtful_state["state"]) if "state" in e.doubtful_state else str(dialect.flow.state)
    words = sorted({as_text(value) for sample in e.found.samples for value in values_at(sample.raw, path_keys(path))})
    states = dialect.flow.states
    if not claim.is_asked and set(words) <= states.keys() and not set(words) <= {"0", "1"}:
        return []
    answers = [Answer("no", "it says something else", lambda d: _with_state(d, "", {}))]
    known = {word: states.get(word) or state_of_word(word) for word in words}
    if len(words) <= 2:
        either = claim.is_asked and set(words) <= FLAGS  # true may be of what is off
        maybe = words if either else [word for word in words if known[word] in ("on", "")] or words
        for number, on in enumerate(sorted(maybe, key=lambda word: known[word] != "on"), 1):
            said: dict[str, Any] = {
                word: "on" if word == on else known[word] if known[word] == "draft" else "off" for word in words
            }
            shown = ", ".join(f"'{word}' is {state}" for word, state in said.items())
            answers.insert(
                number - 1,
                Answer(f"{on} is on", shown, partial(_with_state, path=path, states=said)),
            )
    text = f"Is it {claim.words} that says whether a flow is on?"
    return [Question("state", text, ", ".join(words[:_MOST_SHOWN]), tuple(answers), 3.0, no_other)]


def about_switch(e: Evidence) -> list[Question]:
    """What may say that a step is switched off."""
    found = {name: dotted_path(value) if type(value) is tuple else value for name, value in e.doubtful_switch.items()}
    if not found:
        return []
    field = next(name for name in ("enabled", "disabled") if name in found)
    path = e.doubtful_switch[field]
    values = {
        as_text(value) for sample in e.found.samples for sight in sample.steps for value in values_at(sight.raw, path)
    }
    switches: Any = found.get("switches", {})
    spelled = ", ".join(f"'{word}' is {'on' if on else 'off'}" for word, on in switches.items())
    answers = (
        Answer(
            "yes",
            spelled or f"a step is {field} where it says so",
            lambda d: structs.replace(d, step=structs.replace(d.step, **found)),
        ),
        Answer("no", "it says something else", keep_same),
    )
    text = f"Is it '{found[field]}' that says whether a step is switched off?"
    return [Question("switch", text, ", ".join(sorted(values)[:_MOST_SHOWN]), answers, 3.0, no_other)]


def about_condition(e: Evidence) -> list[Question]:
    """What may say that a step runs only where it holds."""
    found = e.doubtful_condition
    if found is None:
        return []
    path = dotted_path(found.path)
    answers = [
        Answer("runs", "the step runs only where it holds", partial(_with_condition, field="own_condition", path=path)),
        Answer(
            "skips",
            "the step is left out where it holds",
            partial(_with_condition, field="skip_condition", path=path),
        ),
        Answer("no", "it says something else", keep_same),
    ]
    if not any(claim.part == REPEATS and not claim.is_asked for claim in e.claims):
        again = partial(_with_condition, field="own_until", path=path)
        answers.insert(2, Answer("until", "the step runs again until it holds", again))
    answers = [answers[1], answers[0], *answers[2:]] if found.skips else answers
    text = f"Does '{path}' say whether a step runs ({count_words(found.steps, 'step')} have it)?"
    return [Question("condition", text, shown_conditions(e, found.path, 3), tuple(answers), found.steps, no_other)]


def about_rounds(e: Evidence) -> list[Question]:
    """What may say that a step repeats itself."""
    found = e.doubtful_rounds
    if found is None:
        return []
    path = dotted_path(found.path)
    answers = (
        Answer("each", "the step runs for each item", partial(_with_condition, field="own_items", path=path)),
        Answer("until", "the step runs again until it holds", partial(_with_condition, field="own_until", path=path)),
    )
    first = answers if found.field == "own_items" else answers[::-1]
    other = Answer("no", "it says something else", keep_same)
    text = f"Does '{path}' say that a step repeats itself ({count_words(found.steps, 'step')} have it)?"
    return [Question("repeats", text, shown_rounds(e, found.path, 3), (*first, other), found.steps, no_other)]


def _with_condition(dialect: Dialect, field: str, path: str) -> Dialect:
    step: Any = {field: path}
    return structs.replace(dialect, step=structs.replace(dialect.step, **step))


def _with_state(dialect: Dialect, path: str, states: dict[str, Any]) -> Dialect:
    return structs.replace(dialect, flow=structs.replace(dialect.flow, state=path, states=states))
