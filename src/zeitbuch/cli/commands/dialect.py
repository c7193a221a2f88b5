"""The work of `dialect`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from functools import partial

from zeitbuch.app.dialect_answers import AnswersInFile, allowed_answers
from zeitbuch.app.dialect_consequence import Consequence, weigh_consequence
from zeitbuch.app.dialects import (
    AskOwner,
    compared_table,
    dialects_table,
    list_dialects,
    near_kinds,
    preview_files,
    preview_table,
    propose_dialect,
    rules_table,
    trial_lines,
    try_other,
    try_rules,
)
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.asking import read_answer
from zeitbuch.cli.shared.environment import workspace_file
from zeitbuch.cli.shared.exit_codes import NO, OK, WRONG
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.progress import progress_for
from zeitbuch.cli.shared.session import finish_session, limits_of, open_session, report_problems, say, this_month
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.core.assumptions.volume import parse_month
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.config import workspace
from zeitbuch.readers.infer.claims import Claim
from zeitbuch.readers.infer.propose import Proposal
from zeitbuch.readers.infer.question_records import Question
from zeitbuch.readers.infer.questions import KIND_QUESTION, answer_word, question_lines
from zeitbuch.readers.infer.spell import spell_dialect
from zeitbuch.readers.infer.suggest import Suggestion

_MAY = {"send": "send", "delete": "delete", "spend": "spend money"}
_DOCUMENTS_IN_FILES = ("!line-", "!document-")  # in the names of documents of which a file holds several
_SHOWN = 6  # operations by name
_SURE = 90  # per cent from which what an operation is goes without saying


def run(args: argparse.Namespace) -> int:
    """One of the parts."""
    return {"suggest": _suggest_dialect, "test": _test_dialects, "list": _list_dialects}[args.part](args)


def _suggest_dialect(args: argparse.Namespace) -> int:
    session = Session(limits=limits_of(args), progress=progress_for(args.quiet))
    month = args.month or _workspace_month() or this_month()
    parse_month(month)  # what is wrong is said before anything is written
    ask = _way_of_asking(args)
    proposal, problems = propose_dialect(session, args.source, args.name, ask)
    if isinstance(ask, AnswersInFile) and proposal is not None:
        ask.refuse_rest("a question of this proposal or to what an operation is")
    if proposal is None:
        return report_problems(problems, args, WRONG)
    found = weigh_consequence(session, proposal, month)
    write_output(spell_dialect(proposal.made, proposal.used, found.untouched), args.output)
    if not args.quiet:
        for line in [*_proposal_lines(proposal), *_consequence_lines(found, proposal, month)]:
            say(line, keep_lines=True)
        if args.output:
            say(f"next: zeitbuch dialect test {args.source[0]} --dialect {args.output}")
    return report_problems(problems, args, OK)


def _way_of_asking(args: argparse.Namespace) -> AskOwner | None:
    if args.answers:
        return AnswersInFile(args.answers)
    if args.ask and not sys.stdin.isatty():
        raise fail(
            "option",
            "expected a terminal to ask on, found none",
            "write the answers into a file and name it with --answers",
        )
    return _ask_owner if args.ask else None


def _ask_owner(made: Suggestion) -> dict[str, str]:
    """One question after the other; an empty answer leaves one open, `q` the rest."""
    questions = made.questions
    more = "; an empty answer leaves one open, q all that are left" if questions else ""
    say(f"{count_words(len(questions), 'question')}{more}")
    answers: dict[str, str] = {}
    for number, question in enumerate(questions, 1):
        for line in question_lines(number, question):
            say(line, keep_lines=True)
        said = read_answer(partial(answer_word, question), allowed_answers(question))
        if said is None:
            break
        if said:
            answers[question.id] = said
    return answers


_NOTHING_OUTSIDE = ("no step sends, deletes or spends", "no step is known to send, delete or spend")


def _unclassified_words(steps: int) -> str:
    return f"; what {count_words(steps, 'step')} may do is not known" if steps else ""


def _workspace_month() -> str:
    return workspace.load_workspace(workspace_file()).month


def _consequence_lines(found: Consequence, proposal: Proposal, month: str) -> list[str]:
    """What the proposal means for money and safety, and what would change that most."""
    outside = ", ".join(
        f"{count_words(number, 'step')} that {_MAY[effect]}{'s' * (number == 1)}"
        for effect, number in found.outside.items()
        if number
    )
    unknown = f"; of {count_words(found.unknown, 'flow')} the files do not say how often" if found.unknown else ""
    assumed = (
        " (rounds, shares of ways, turns and polls by default where the files say nothing)" if found.assumed else ""
    )
    left_out = (
        f"; {count_words(found.left_out, 'document')} beyond a limit left out of all this" if found.left_out else ""
    )
    maybe = f"; {count_words(found.may_ask, 'step')} more may ask a model" if found.may_ask else ""
    lines = [
        f"with it: {count_words(found.flows, 'flow')}, {found.runs:,.0f} runs in {month} by the clock{unknown}{left_out}",
        f"  {found.calls_per_run:,.1f} model calls when each flow runs once, {found.calls:,.0f} in {month} by the clock{maybe}{assumed}",
        f"  {outside or _NOTHING_OUTSIDE[found.unclassified + found.left_out > 0]}{_unclassified_words(found.unclassified)}",
    ]
    if found.doubts:
        lines.append("  what would change this most, if it is wrong:")
        lines += [_claim_line(claim) for claim in found.doubts]
    if proposal.made.questions:
        asked = count_words(len(proposal.made.questions), "question")
        lines.append(f"{asked} left open: answer with --ask, or with --answers FILE")
    return lines


def _asked_lines(questions: Sequence[Question]) -> list[str]:
    asked = [question.id.removeprefix(KIND_QUESTION) for question in questions if question.id.startswith(KIND_QUESTION)]
    shown = ", ".join(f"'{operation}'" for operation in asked[:_SHOWN]) + (" …" if len(asked) > _SHOWN else "")
    return [f"  not known, so asked: what {shown} do{'es' if len(asked) == 1 else ''}"] if asked else []


def _files_words(proposal: Proposal) -> str:
    """The files or documents that a proposal rests on; of many alike only some are looked at."""
    parts = any(mark in name for name in proposal.used for mark in _DOCUMENTS_IN_FILES)
    files = count_words(len(proposal.used), "document" if parts else "file")
    some = proposal.made.documents < len(proposal.used) and not proposal.made.dialect.beside
    return f"{proposal.made.documents} of {files}" if some else files


def _proposal_lines(proposal: Proposal) -> list[str]:
    """What a proposal is based on, how much speaks for each part, and what was left open."""
    made = proposal.made
    held = f"{count_words(made.flows, 'flow')} with {count_words(made.steps, 'step')}"
    lines = [f"{held} in {_files_words(proposal)} written alike"]
    lines += [_claim_line(claim) for claim in made.claims if not claim.of]
    lines += _kind_lines(made.claims)
    lines += _asked_lines(made.questions)
    for words, names in (
        ("written in another way (suggest for them apart)", proposal.others),
        ("other objects, left out", proposal.bare),
    ):
        if names:
            shown = ", ".join(names[:2]) + (" …" if len(names) > 2 else "")
            lines.append(f"  {words}: {count_words(len(names), 'file')} ({shown})")
    return lines


def _claim_line(claim: Claim) -> str:
    words = f"'{claim.of}': {claim.words}" if claim.of else claim.words
    return f"  {claim.sure_words:>10}  {claim.part:<12} {words}"


def _kind_lines(claims: Sequence[Claim]) -> list[str]:
    """Operations by what they are taken for, those that are less sure by name."""
    about = [claim for claim in claims if claim.of]
    sure = [claim for claim in about if not claim.is_asked and claim.part != "schedule"]
    lines = [
        f"              {'kinds':<12} {count_words(len(sure), 'operation')} known by words, values, how their steps stand, or an answer"
    ]
    return lines + [_claim_line(claim) for claim in about if claim.percent < _SURE]


def _test_dialects(args: argparse.Namespace) -> int:
    form = chosen_format(args, "table")
    session = open_session(args)
    if args.rules or args.compare:
        return _try_rules(args, session, form)
    rows = preview_files(session, args.source)
    show_result("table", form, preview_table(rows), args)
    if not args.quiet:
        for operation in dict.fromkeys(operation for row in rows for operation in row.unclassified):
            closest = ", ".join(near_kinds(operation)) or "no word of it is known"
            say(f"not classified: '{operation}' (closest: {closest})")
    return finish_session(session, args, NO if any(not row.flows for row in rows) else OK)


def _try_rules(args: argparse.Namespace, session: Session, form: str) -> int:
    trials = try_rules(session, args.source)
    others = [try_other(session, args.compare, args.source)] if args.compare else []
    if not trials or (others and len(trials) != 1):
        found = f"{len(trials)} dialects" if trials else "no dialect"
        raise fail(
            "option",
            f"expected one active dialect{' to compare with' if others else ' at least'}, found {found}",
            "name it with --dialect FILE",
        )
    table = compared_table(trials[0], others[0]) if others else rules_table(trials)
    show_result("table", form, table, args)
    if not args.quiet:
        for trial in (*trials, *others):
            for line in trial_lines(trial):
                say(line)
    return finish_session(session, args, OK if all(trial.flows for trial in trials) else NO)


def _list_dialects(args: argparse.Namespace) -> int:
    form = chosen_format(args, "table")
    listed, problems = list_dialects(workspace.load_workspace(workspace_file()), args.dialect)
    show_result("table", form, dialects_table(listed), args)
    return report_problems(problems, args, OK)
