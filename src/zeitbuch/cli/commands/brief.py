"""The work of `brief`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from zeitbuch.app.brief import LONGEST_DRAFT, DraftRequest, drop_draft, key_bytes, key_path, make_brief, take_draft
from zeitbuch.app.flows import find_flow
from zeitbuch.app.session import Session
from zeitbuch.book.selection import book_time
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import account_name, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.stream import show_result, write_private
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import PageResult


def run(args: argparse.Namespace) -> int:
    """A brief, or the draft that came of one."""
    _check_options(args)
    session = open_session(args)
    moment = book_time(this_moment())
    by = args.by or (account_name() if args.back or args.drop else "")
    if args.back:
        request = DraftRequest(_text_of(args.back), args.back, args.key, by, moment)
        print(take_draft(session, session.estate(args.source), request))
        return finish_session(session, args)
    if args.drop:
        print(drop_draft(session, args.flow, by, moment))
        return finish_session(session, args)
    return _write_brief(session, args)


def _write_brief(session: Session, args: argparse.Namespace) -> int:
    """The page, and its key beside the workspace."""
    if not args.output and not args.format:
        args.format = "markdown"
    form = chosen_format(args, "page")
    estate = session.estate(args.source)
    page, key = make_brief(session, estate, find_flow(estate, args.flow), args.prompts)
    place = args.key or key_path(session, key.number)
    write_private(key_bytes(key), place)
    show_result("page", form, PageResult("brief", page, page), args)
    if not args.quiet:
        say(
            f"the key of {count_words(len(key.placeholders), 'placeholder')} is {place}: it stays in the house; read the brief before it leaves it"
        )
    return finish_session(session, args)


def _check_options(args: argparse.Namespace) -> None:
    """What goes together. Raises ZeitbuchError for what does not."""
    if args.back:
        refuse_idle_options(args, "--back", ("--key", "--by", "--source"))
        if args.flow:
            raise fail(
                "option",
                f"expected --back FILE without FLOW, found '{args.flow}'",
                "the draft says which flow it is of",
            )
    elif args.drop:
        refuse_idle_options(args, "--drop", ("--by",))
    else:
        refuse_idle_options(args, "a brief", ("--prompts", "--key", "--source", *OUTPUT))
    if not args.back and not args.flow:
        raise fail(
            "option",
            "expected the id or name of a FLOW, or --back FILE, found neither",
            'zeitbuch brief "Customer letters"',
        )
    if args.key == "-":
        raise fail("option", "expected a file after --key, found -", "the key never stands beside the brief")


def _text_of(source: str) -> str:
    """The text of a draft. Raises ZeitbuchError for one that cannot be read."""
    try:
        if source == "-":
            raw = sys.stdin.buffer.read(4 * LONGEST_DRAFT + 1)
        else:
            with Path(source).open("rb") as file:
                raw = file.read(4 * LONGEST_DRAFT + 1)
        return raw.decode("utf-8-sig")
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or str(error)
        raise fail("brief", f"{source}: expected a text in UTF-8, found: {said}") from None
