# Who decides what: an owner signs for what a model may choose by itself, and for what nobody looks at.
"""Who decides what in a flow."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.graph.answers import models_deciding, refs_of_decision
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.kinds import NOT_TOOLS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import join_words
from zeitbuch.core.report.step_phrases import asked_people, value_of

_NO_ARTICLE = ("the ", "a ", "an ", "what ", "which ", "how ", "where ", "who ", "whether ", "when ")
_LIMITS = ("limit", "max", "maximum", "most", "cap", "ceiling")
_NOT_WORDED = frozenset({"image", "speech", "embedding"})  # modalities of which no text comes


def deciding_lines(graph: Graph, running: frozenset[str]) -> list[str]:
    """Sentences: what models decide, what follows from data, which limits are fixed, who is asked. ``running``: the steps that some run
    comes to; of no other is anything said but that an approval asks nobody."""
    steps = [step for step in graph.in_order() if step.id in running]
    chosen = [words for step in steps if (words := _chosen_in(graph, step))]
    by_answer = [words for step in steps if (words := _chosen_by_answer(graph, step))]
    labels = {ref.step for step in steps for ref in refs_of_decision(graph, step)}
    asks = [step for step in steps if step.kind == "approve"]
    calls = any(step.calls for step in steps)
    # Where somebody is asked, here or in a flow called, a model may not be alone.
    alone = "" if asks or calls else " alone"
    lines = [f"A model{alone} decides {join_words([*by_answer, *chosen])}."] if by_answer or chosen else []
    lines += [words for step in steps if (words := _tools_chosen(graph, step, running))]
    made = _made_by_models(graph, steps, labels)
    lines += [*made, *_limit_lines(graph, steps)]
    for step in asks:
        lines.append(f"{asked_people(graph, step) or 'A person'} decides at {quote_name(step.title)}.")
    if not asks and lines:
        lines.append("Nobody approves anything in this flow itself." if calls else "Nobody approves anything.")
    idle = [quote_name(step.title) for step in graph.in_order() if step.kind == "approve" and step.id not in running]
    if idle:
        does = "asks" if len(idle) == 1 else "ask"
        lines.append(f"{join_words(idle)} {does} nobody as it stands: switched off, or no run comes there.")
    return lines or [_undecided(graph, steps, calls)]


def _undecided(graph: Graph, steps: Sequence[Step], calls: bool) -> str:
    """What is said where no model and no person decides; of steps that no rule classifies nobody knows."""
    unknown = [quote_name(step.title) for step in steps if step.kind == "other"]
    here = " in this flow itself" if calls else ""
    code = [quote_name(step.title) for step in steps if step.kind == "code"]
    if not unknown and code:
        return f"Everything{here} follows from data, fixed values and what the code of {join_words(code)} does."
    if not unknown:
        return f"Everything{here} follows from data and fixed values."
    said = f"whether {join_words(unknown, 'or')} does is not known, for no rule classifies it."
    return f"No model and no person decides{here}; {said}"


def _made_by_models(graph: Graph, steps: Sequence[Step], labels: set[str | None]) -> list[str]:
    """What others read of models: a model that an agent uses is no step of its own, a label that a decision reads no text."""
    writing = [one for one in steps if one.kind == "agent" or (one.kind == "model" and one.id not in labels)]
    by_verb: dict[str, list[str]] = {}
    for step in writing:
        use = model_of(graph, step)
        if step.id not in graph.host:
            verb = "makes" if use is not None and use.modality in _NOT_WORDED else "words"
            by_verb.setdefault(verb, []).append(quote_name(step.title))
    return [
        f"A model {verb} what {join_words(names)} {'gives' if len(names) == 1 else 'give'}."
        for verb, names in by_verb.items()
    ]


def _tools_chosen(graph: Graph, step: Step, running: frozenset[str]) -> str:
    """'‘Refund agent’ itself decides whether and how often ‘Pay a refund’ is used.'"""
    if step.kind != "agent":
        return ""
    tools = [one for one in graph.used_by(step.id) if one.kind not in NOT_TOOLS and one.id in running]
    if not tools:
        return ""
    names = join_words([quote_name(one.title) for one in tools])
    be = "is" if len(tools) == 1 else "are"
    return f"{quote_name(step.title)} itself decides whether and how often {names} {be} used."


def _chosen_in(graph: Graph, step: Step) -> str:
    """'amount of ‘Pay a refund’ (the amount to pay back)': the inputs of a step that a model chooses."""
    given = [one.description or one.name for one in step.inputs if one.decided == "model"]
    names = [_noun(name) for name in given]
    return f"{join_words(names)} of {quote_name(step.title)}" if names else ""


def _noun(text: str) -> str:
    """'The amount to pay back' -> 'the amount to pay back'; a question stays one."""
    low = f"{text[:1].lower()}{text[1:]}"
    return low if low.startswith(_NO_ARTICLE) else f"the {low}"


def _chosen_by_answer(graph: Graph, step: Step) -> str:
    """'which way ‘Desk’ goes (by what ‘Whose matter is it?’ answers)'."""
    models = [quote_name(one.title) for one in models_deciding(graph, step)]
    answer = "answers" if len(models) == 1 else "answer"
    return f"which way {quote_name(step.title)} goes (by what {join_words(models)} {answer})" if models else ""


def _limit_lines(graph: Graph, steps: Sequence[Step]) -> list[str]:
    """Limits that stand fixed beside what a model chooses."""
    found = []
    for step in steps:
        if step.effect in ("none", "read") or not any(one.decided == "model" for one in step.inputs):
            continue
        for one in step.inputs:
            value = value_of(graph, one) if any(word in one.name.casefold() for word in _LIMITS) else ""
            if value:
                found.append(f"{one.name} of {quote_name(step.title)} is fixed: {value}.")
    return [line[:1].upper() + line[1:] for line in found]
