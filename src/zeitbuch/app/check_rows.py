# Which checks there are: those of the house, those of other packages, and the rules of the workspace. A code stands for one check.
"""Checks from all places."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct, structs

from zeitbuch.core.checks.house_rules import check_of_rule
from zeitbuch.core.checks.records import SEVERITIES, Check, Rule
from zeitbuch.core.checks.registry import BROKEN, CHECKS
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.plugins.entry_points import PlugIn, find_plugins, plugin_problem
from zeitbuch.readers.input.toml_files import TomlKind, load_toml
from zeitbuch.readers.input.toml_lines import line_of

from .session import Session

_RULES = TomlKind("a file of rules", "house-rules", "rules-unreadable", "rules-syntax", "rules-key")


class RulesFile(Struct, frozen=True, forbid_unknown_fields=True):
    """A file of rules (TOML), to be tried."""

    rule: list[Rule] = []


def added_checks(plugin: PlugIn) -> tuple[Check, ...]:
    """The checks that an entry point names: one row, or several."""
    value = plugin.value
    rows = (value,) if isinstance(value, Check) else tuple(value) if isinstance(value, list | tuple) else ()
    return tuple(row for row in rows if isinstance(row, Check))


def check_problem(plugin: PlugIn) -> Problem | None:
    """Why a plug-in cannot be used as checks; None when it can."""
    if plugin.problem is not None:
        return plugin.problem
    rows = added_checks(plugin)
    if not rows:
        hint = "a check is a zeitbuch.core.checks.records.Check: docs/plugins.md"
        return plugin_problem(
            f"expected a Check, or a tuple of them, at {plugin.target}, found {type(plugin.value).__name__}", hint
        )
    for row in rows:
        if row.code in CHECKS or row.code == BROKEN:
            return plugin_problem(
                f"expected a code that is new, found '{row.code}' of '{plugin.name}' again", "name it otherwise"
            )
        if row.severity not in SEVERITIES:
            return plugin_problem(
                f"expected one of {', '.join(SEVERITIES)} in '{row.code}', found '{row.severity}'", "correct it"
            )
    return None


def all_checks(session: Session | None = None) -> dict[str, Check]:
    """Every check by its code; with a session also the rules of its workspace. Raises ZeitbuchError for a rule that is none."""
    found = dict(CHECKS)
    for plugin in find_plugins("zeitbuch.checks"):
        problem = check_problem(plugin)
        if problem is None:
            found |= {row.code: row for row in added_checks(plugin)}
        elif session is not None:
            session.problems.append(problem)
    if session is not None:
        path = session.workspace.path_from_here("zeitbuch.toml")
        found |= {row.code: row for row in _checks_of_rules(session.workspace.rule, path, set(found))}
    return found


def rules_to_try(path: str, taken: set[str]) -> list[Check]:
    """The checks of a file of rules. Raises ZeitbuchError for one that is none."""
    read, _ = load_toml(path, RulesFile, _RULES)
    if not read.rule:
        raise fail("rules-key", "expected at least one [[rule]], found none", "docs/rules.md has ten", Origin(path))
    return list(_checks_of_rules(read.rule, path, taken))


def _checks_of_rules(rules: Sequence[Rule], path: str, taken: set[str]) -> Iterator[Check]:
    taken = taken | {BROKEN}
    for place, rule in enumerate(rules):
        try:
            yield check_of_rule(rule, taken)
        except ZeitbuchError as error:
            text = Path(path).read_text(encoding="utf-8")
            raise ZeitbuchError(
                structs.replace(error.problem, origin=Origin(path, line=line_of(text, f"/rule/{place}")))
            ) from None
        taken.add(rule.code)


def find_check(code: str, known: dict[str, Check]) -> Check:
    """The check of a code. Raises ZeitbuchError for none."""
    row = known.get(code)
    if row is None:
        near = difflib.get_close_matches(code, list(known), 3)
        hint = f"did you mean {' or '.join(near)}?" if near else "`zeitbuch check --codes` lists them"
        raise fail("check-unknown", f"expected the code of a check, found '{code}'", hint)
    return row
