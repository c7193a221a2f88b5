"""The work of `usage`."""

from __future__ import annotations

import argparse
import sys
from functools import partial
from pathlib import Path

from zeitbuch.app.former_names import former_names
from zeitbuch.app.session import Session
from zeitbuch.app.usage import open_logs, try_usage
from zeitbuch.app.usage_suggest import Ask, MappingAnswers, allowed_words, answer_word, suggest_mapping
from zeitbuch.cli.shared.asking import read_answer
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.piped_log import piped_logs
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.core.report.usage_tables import UsageTrials, columns_sheet, names_sheet
from zeitbuch.readers.usage.mapping_proposal import MappingProposal, proposal_text


def run(args: argparse.Namespace) -> int:
    """One of the parts."""
    return {"suggest": _suggest, "test": _test}[args.part](args)


def _test(args: argparse.Namespace) -> int:
    form = chosen_format(args, "table")
    session = open_session(args)
    card = basis_of(args, session).card
    logs = open_logs(session, piped_logs(args.usage, args.source), args.mapping)
    estate = session.estate(args.source)
    former = former_names(session, estate)
    result = UsageTrials(tuple([try_usage(log, estate, card, former) for log in logs]))
    sheet = names_sheet if args.names else columns_sheet
    show_result("table", form, TableResult("usage-trial", result, lambda full: sheet(result)), args)
    return finish_session(session, args)


def _suggest(args: argparse.Namespace) -> int:
    session = open_session(args)
    ask = _way_of_asking(args)
    (log,) = piped_logs([args.log], args.source)
    estate = _estate_of(session, args)
    made = suggest_mapping(log, estate, basis_of(args, session).card, ask)
    if isinstance(ask, MappingAnswers):
        ask.refuse_rest("a question of this proposal")
    write_output(proposal_text(made), args.output)
    if not args.quiet:
        _tell(made, args)
    return finish_session(session, args)


def _estate_of(session: Session, args: argparse.Namespace) -> Estate:
    """The estate whose names a log may hold; none where none is named."""
    return session.estate(args.source) if args.source or session.workspace.sources else Estate(flows=())


def _tell(made: MappingProposal, args: argparse.Namespace) -> None:
    for guess in made.guesses:
        say(f"{guess.name} is '{guess.column}'")
    if made.left:
        say(f"columns that nothing takes: {', '.join(made.left)}")
    if made.questions:
        say(f"{count_words(len(made.questions), 'question')} left open: answer with --ask, or with --answers FILE")
    if args.output:
        beside = Path(args.output).parent / made.mapping.files[0]
        log = "" if beside.exists() else f"{args.log} "
        say(f"next: zeitbuch usage test {log}--mapping {args.output}")


def _way_of_asking(args: argparse.Namespace) -> Ask | None:
    if args.answers:
        return MappingAnswers(args.answers)
    if args.ask and not sys.stdin.isatty():
        hint = "write the answers into a file and name it with --answers"
        raise fail("option", "expected a terminal to ask on, found none", hint)
    return _ask_owner if args.ask else None


def _ask_owner(made: MappingProposal) -> dict[str, str]:
    """One question after the other; an empty answer leaves one open, `q` the rest."""
    say(f"{count_words(len(made.questions), 'question')}; an empty answer leaves one open, q all that are left")
    answers: dict[str, str] = {}
    for question in made.questions:
        say(question.text + (f" ({question.example})" if question.example else ""))
        for number, (word, meaning) in enumerate(question.answers, 1):
            say(f"  {number} {word}: {meaning}", keep_lines=True)
        said = read_answer(partial(answer_word, question), allowed_words(question))
        if said is None:
            break
        if said:
            answers[question.id] = said
    return answers
