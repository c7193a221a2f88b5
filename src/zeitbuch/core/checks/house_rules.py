# Rules of the house, written in the workspace without any Python: a condition, how bad it is, what to say and why.
"""Checks made of rules."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.conditions import Condition, parse_condition
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import join_words

from .records import Check, Hit, Rule
from .rule_facts import Subject, known_facts, look_up, subjects_of
from .views import FlowView

_SLOT = re.compile(r"\{([a-z_.]+(?:\([^(){}]*\))?)\}")


def check_of_rule(rule: Rule, taken: set[str]) -> Check:
    """The check that a rule is. Raises ZeitbuchError for a code that is taken, a condition that is none, and facts that are not known."""
    if rule.code in taken or not re.fullmatch(r"[a-z0-9][a-z0-9-]*", rule.code):
        raise fail(
            "house-rule",
            f"expected a code of its own (small letters, digits, dashes), found '{rule.code}'",
            "name it otherwise",
        )
    condition = parse_condition(rule.where, known_facts(rule.over))
    slots = {slot: parse_condition(slot, known_facts(rule.over)) for slot in _SLOT.findall(rule.sentence)}

    def find(view: FlowView) -> Iterator[Hit]:
        for subject in subjects_of(rule.over, view):
            if condition.holds(lambda name, given, subject=subject: look_up(rule.over, subject, name, given)):  # type: ignore[misc]
                yield Hit(subject.part, _said(rule, subject, slots))

    return Check(rule.code, rule.severity, rule.sentence, rule.reason, f"a rule of the workspace, over each {rule.over}: {rule.where}",
                 "What the condition does not say.", rule.remedy or "Change it, or accept it with a reason.", find)  # fmt: skip


def _said(rule: Rule, subject: Subject, slots: dict[str, Condition]) -> str:
    """The sentence of a rule with its facts, behind the name of what it is about."""

    def shown(found: re.Match[str]) -> str:
        told: list[Any] = []

        def ask(name: str, given: tuple[Any, ...]) -> bool:
            told.append(look_up(rule.over, subject, name, given))
            return True

        slots[found.group(1)].holds(ask)
        return _words(told[0]) if told else ""

    text = _SLOT.sub(shown, rule.sentence)
    return text if subject.part is None or subject.part.title in text else f"{quote_name(subject.part.title)}: {text}"


def _words(value: Any) -> str:
    if isinstance(value, list | tuple):
        return join_words([_words(one) for one in value])
    if isinstance(value, float):
        return f"{value:g}"
    return "not stated" if value is None else str(value)
