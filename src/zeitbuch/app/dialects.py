# Dialects: proposing one from exports, seeing what one makes of them, and which there are.
"""Dialect files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from msgspec import Struct, field

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report import export_preview
from zeitbuch.core.report.export_preview import Preview, PreviewResult
from zeitbuch.core.report.presentations import SheetResult, TableResult
from zeitbuch.readers.config.workspace import Listed, Workspace, find_dialect_files
from zeitbuch.readers.dialects.rules import Dialect, load_dialect, suffixes_of
from zeitbuch.readers.dialects.trial import DialectTrial, try_dialect
from zeitbuch.readers.infer.propose import (
    OTHER_SUFFIXES,
    Proposal,
    closest_kinds,
    default_name,
    plain_documents,
    propose_from_documents,
    read_documents,
)
from zeitbuch.readers.infer.suggest import Suggestion
from zeitbuch.readers.reading.beside import with_files_beside
from zeitbuch.readers.reading.forms import name_form

from .session import Session
from .sources import inputs_of

AskOwner = Callable[[Suggestion], dict[str, str]]
_MOST_ROUNDS = 4  # of questions that answers bring
_SHOWN = 8  # places that no rule touches


def propose_dialect(
    session: Session, sources: Sequence[str], name: str = "", ask: AskOwner | None = None
) -> tuple[Proposal | None, list[Problem]]:
    """A proposal from exports, and what could not be read; None when nothing could. ``ask`` is shown the questions of the proposal
    and gives words for answers by their ids, until there are no new ones. Raises ZeitbuchError when nothing in them looks like steps."""
    inputs = session.files_of(sources, OTHER_SUFFIXES)
    with session.progress(len(inputs), "reading") as advance:
        found, problems = read_documents(inputs, session.limits, advance, OTHER_SUFFIXES)
    known = [(file, name_form(document)) for file, document in found]
    problems += [_known_problem(file, form) for file, form in known if form]
    found = [entry for entry, (_, form) in zip(found, known, strict=True) if not form]
    if not found:
        return None, problems
    name = name or default_name(list(sources))
    proposal = propose_from_documents(found, name)
    return (proposal if ask is None else _with_answers(found, name, proposal, ask)), problems


def _with_answers(found: list[tuple[str, Any]], name: str, proposal: Proposal, ask: AskOwner) -> Proposal:
    """The proposal after the owner has answered. What an operation does may bring new questions, which are asked in turn."""
    answers: dict[str, str] = {}
    asked: set[str] = set()
    for _ in range(_MOST_ROUNDS):
        fresh = tuple(question for question in proposal.made.questions if question.id not in asked)
        if asked and not fresh:
            break
        given = ask(proposal.made._replace(questions=fresh))
        asked |= {question.id for question in fresh}
        if not given:
            break
        answers |= given
        proposal = propose_from_documents(found, name, answers)
    return proposal


def _known_problem(file: str, form: str) -> Problem:
    message = f"expected an export of an unknown builder, found a file in the form '{form}', which is read as it is"
    return Problem("suggest-known", "warning", message, Origin(file), f"try: zeitbuch inventory {file}")


def near_kinds(operation: str) -> tuple[str, ...]:
    """The kinds that the words of an operation hint at, the closest first."""
    return closest_kinds(operation)


def preview_files(session: Session, sources: Sequence[str]) -> list[Preview]:
    """What the active dialects make of each file."""
    read = session.by_file(sources)
    parts = {problem.origin.file for problem in session.problems if problem.code == "beside-part" and problem.origin}
    return [export_preview.preview_file(name, flows) for name, flows in read if name not in parts]


def preview_table(rows: list[Preview]) -> TableResult:
    """Previews as a table."""
    return TableResult("preview", PreviewResult(tuple(rows)), lambda full: export_preview.preview_sheet(rows))


def try_rules(session: Session, sources: Sequence[str]) -> list[DialectTrial]:
    """What the rules of every active dialect do on files."""
    trials = [_trial_of(session, dialect, sources) for dialect in session.dialects]
    # Of many active dialects those are of interest that these files are written in.
    return [trial for trial in trials if trial.documents] or trials


def try_other(session: Session, path: str, sources: Sequence[str]) -> DialectTrial:
    """What the rules of one more dialect do on files. Raises ZeitbuchError when its file is wrong."""
    return _trial_of(session, load_dialect(path), sources)


def _trial_of(session: Session, dialect: Dialect, sources: Sequence[str]) -> DialectTrial:
    # Each dialect reads for itself: what it brings into shape is no longer what the others are to be tried on.
    also = suffixes_of([dialect])
    inputs = [
        one
        for source in session.sources(sources)
        for one in inputs_of(source, session.limits, session.book_place, also)
    ]
    with session.progress(len(inputs), f"trying {dialect.name}") as advance:
        found, problems = read_documents(inputs, session.limits, advance, also)
    # Every dialect reads the same files: what is wrong with them is told once.
    session.problems += [problem for problem in problems if problem not in session.problems]
    plain = plain_documents(found, dialect.signature)
    return try_dialect(dialect, with_files_beside(dialect, plain), session.limits)


def rules_table(trials: Sequence[DialectTrial]) -> TableResult:
    """Trials as a table."""
    rows = [
        export_preview.RuleUse(trial.dialect, row.rule, row.path, row.hits, row.records, row.remark)
        for trial in trials
        for row in trial.rules
    ]
    return TableResult(
        "rules", export_preview.RulesResult(tuple(rows)), lambda full: export_preview.rules_sheet(rows, full)
    )


def compared_table(first: DialectTrial, second: DialectTrial) -> TableResult:
    """What two dialects make of the same files."""
    names = [first.dialect, second.dialect]
    if names[0] == names[1]:
        names = [f"{names[0]} (first)", f"{names[1]} (second)"]
    sides = [
        (name, export_preview.preview_file("", one.read)) for name, one in zip(names, (first, second), strict=True)
    ]
    sheet = export_preview.compared_sheet(sides[0], sides[1])
    return TableResult("sheet", SheetResult.of(sheet), lambda full: sheet)


def trial_lines(trial: DialectTrial) -> list[str]:
    """What points to a mistake in a dialect, and the largest places of the export that no rule touches."""
    lines = [f"dialect '{trial.dialect}': {words}" for words in trial.suspicions]
    if trial.untouched:
        shown = ", ".join(f"{one.place} ({count_words(one.values, 'value')})" for one in trial.untouched[:_SHOWN])
        more = f" and {len(trial.untouched) - _SHOWN} more" if len(trial.untouched) > _SHOWN else ""
        lines.append(f"dialect '{trial.dialect}': no rule touches {shown}{more}")
    return lines


class DialectEntry(Struct, frozen=True, kw_only=True):
    """One dialect file that was found; ``place`` says where: option, workspace, user folder, or demo."""

    name: str
    place: str = field(name="from")
    active: bool
    title: str
    file: str


class DialectsResult(Struct, frozen=True):
    """`dialect list --format json`."""

    dialects: tuple[DialectEntry, ...]


def list_dialects(workspace: Workspace, named: Sequence[str]) -> tuple[list[Listed], list[Problem]]:
    """All dialect files with the place they come from, and what is wrong with those that cannot be read."""
    return find_dialect_files(workspace, list(named))


def dialects_table(listed: list[Listed]) -> TableResult:
    """Dialects as a table."""
    columns = tuple(Column(key, key) for key in ("name", "from", "active", "what", "file"))
    rows = tuple((d.name, d.place, "yes" if d.active else "no", d.title, d.file) for d in listed)
    body = DialectsResult(
        tuple(DialectEntry(name=d.name, place=d.place, active=d.active, title=d.title, file=d.file) for d in listed)
    )
    return TableResult("dialects", body, lambda full: Sheet(columns=columns, rows=rows))
