"""The work of `review`."""

from __future__ import annotations

import argparse
import datetime

from msgspec import structs

from zeitbuch.app.review import SignRequest, add_act, review_status, sign_flow, verify_reviews
from zeitbuch.app.session import Session
from zeitbuch.book.records import sha256
from zeitbuch.book.selection import book_time
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import account_name, basis_of, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.stream import show_result, write_output, write_private
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.core.report.review_states import open_flows, review_sheet

_HEEDED = {
    "sign": ("--by", "--role", "--verdict", "--note", "--key", "--until", "--source"),
    "request": ("--by", "--role", "--note"),
    "withdraw": ("--by", "--role", "--note"),
    "status": ("--source", *OUTPUT),
    "verify": ("--source", *OUTPUT),
    "packet": ("--source", "--originals", "--placeholders", "--month", "--output"),
}
_OF_ALL = ("status", "verify", "packet")


def run(args: argparse.Namespace) -> int:
    """A signature, or what became of all of them."""
    refuse_idle_options(args, args.act, _HEEDED[args.act])
    if args.flow and args.act in _OF_ALL:
        message = f"expected no FLOW beside {args.act}, found '{args.flow}'"
        raise fail("option", message, f"{args.act} is of all flows of the sources; --source names others")
    session = open_session(args)
    if args.act in ("sign", "request", "withdraw"):
        request = _request(args)
        done = (
            sign_flow(session, session.estate(args.source), request)
            if args.act == "sign"
            else add_act(session, request, args.act)
        )
        print(done)
        if args.act == "sign" and not args.key and not args.quiet:
            say("a name alone proves nobody: --key FILE signs with a key as well")
        return finish_session(session, args)
    if args.act == "packet":
        return _write_packet(session, args)
    form = chosen_format(args, "table")
    found = review_status(session, session.estate(args.source), this_moment().date().isoformat())
    wrong = verify_reviews(session) if args.act == "verify" else ()
    status = structs.replace(found, wrong=wrong)
    show_result("table", form, TableResult("review", status, lambda full: review_sheet(status)), args)
    if args.act == "status":
        return finish_session(session, args)
    shut = [*wrong, *open_flows(status)]
    for sentence in shut:
        say(f"no: {sentence}")
    return finish_session(session, args, NO if shut else OK)


def _write_packet(session: Session, args: argparse.Namespace) -> int:
    """The packet of an auditor, as a zip file."""
    if not args.output or not args.output.endswith(".zip"):
        raise fail(
            "option",
            f"expected -o FILE.zip beside packet, found {args.output or 'none'}",
            "zeitbuch review packet -o packet.zip",
        )
    from zeitbuch.app.brief import key_bytes
    from zeitbuch.app.packet import packet_files, to_archive

    today = this_moment().date().isoformat()
    files, key = packet_files(session, args.source, basis_of(args, session), today, args.originals)
    write_output(to_archive(files), args.output)
    if args.placeholders:
        write_private(key_bytes(key), args.placeholders)
    if not args.quiet:
        say(
            f"{count_words(len(files), 'file')} in {args.output}; the hash of its manifest is {sha256(files['manifest.sha256'])}"
        )
        if args.originals:
            say("the originals are in it, with whatever secrets they hold: give it to nobody who may not have them")
    return finish_session(session, args)


def _request(args: argparse.Namespace) -> SignRequest:
    if not args.flow or not args.role:
        raise fail(
            "option",
            f"expected FLOW and --role beside {args.act}, found {'no --role' if args.flow else 'no FLOW'}",
            'zeitbuch review sign "Customer letters" --role owner',
        )
    if args.until:
        try:
            datetime.date.fromisoformat(args.until)
        except ValueError:
            raise fail(
                "option", f"expected a day (YYYY-MM-DD) for --until, found '{args.until}'", "example: 2027-06-30"
            ) from None
    now = this_moment()
    return SignRequest(
        args.flow,
        args.by or account_name(),
        args.role,
        args.verdict,
        args.until,
        args.note,
        now.date().isoformat(),
        book_time(now),
        args.key,
    )
