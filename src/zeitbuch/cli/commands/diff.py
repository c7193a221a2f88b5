"""The work of `diff`."""

from __future__ import annotations

import argparse

from zeitbuch.app.basis import EstimateBasis
from zeitbuch.app.bill_diff import compare_bill_files, names_bill
from zeitbuch.app.diff import (
    DiffRequest,
    changes_report,
    changes_table,
    compare_versions,
    compare_versions_three_ways,
    find_clones,
    undo_change,
)
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.diff import policy
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.writers.outputs.rows import formats_of


def run(args: argparse.Namespace) -> int:
    """Changes between two versions, or copies within one."""
    if args.driver:
        from zeitbuch.cli.shared.git_driver import run_diff_driver

        return run_diff_driver(args)
    if args.merge_driver:
        from zeitbuch.cli.shared.git_driver import run_merge_driver

        return run_merge_driver(args)
    if args.staged:
        return _run_staged(args)
    if args.old is None or args.more:
        found = " ".join([args.old or "none", args.new or "", *args.more]).strip()
        raise fail("option", f"expected OLD and NEW (or OLD alone, against the workspace's sources), found {found}")
    if args.clones:
        return _run_clones(args)
    if args.base:
        return _run_three_ways(args)
    if args.undo:
        return _run_undo(args)
    if names_bill(args.old, args.new):
        return _run_bills(args)
    session = open_session(args)
    basis = basis_of(args, session)
    old, new = session.versions(args.old, args.new)
    return _compare(args, session, basis, old, new)


def _run_undo(args: argparse.Namespace) -> int:
    """The newer version of a flow without one of its changes, in the native form."""
    refuse_idle_options(args, "--undo", ("--mapping", *OUTPUT))
    form = chosen_format(args, "flows")
    session = open_session(args)
    old, new = session.versions(args.old, args.new)
    request = DiffRequest(figures=False, mapping=args.mapping, today=this_moment().date().isoformat())
    outcome = compare_versions(session, old, new, basis_of(args, session), request)
    show_result("flows", form, Estate((undo_change(outcome, args.undo),)), args)
    return finish_session(session, args)


def _run_staged(args: argparse.Namespace) -> int:
    """What the next commit does to the workspace's sources; nothing is read when it does not touch them."""
    from zeitbuch.app.git_versions import staged_versions

    if args.old is not None or args.clones or args.base:
        raise fail(
            "option",
            "expected --staged without OLD and NEW, found more",
            "it compares the last commit with what is staged",
        )
    session = open_session(args)
    sides = staged_versions(session)
    if sides is None:
        if not args.quiet:
            say("what is staged touches no source of the workspace")
        return OK
    return _compare(args, session, basis_of(args, session), *sides)


def _compare(args: argparse.Namespace, session: Session, basis: EstimateBasis, old: Estate, new: Estate) -> int:
    form = chosen_format(args, "changes", "table")
    if form not in formats_of("changes") and not args.summary:
        raise fail(
            "option",
            f"expected --summary beside {form}, found none",
            f"changes by word are {', '.join(formats_of('changes'))}",
        )
    request = DiffRequest(
        topics=tuple(policy.parse_topics(args.only)),
        flow=args.flow or "",
        shares=not (args.no_shares or args.summary),
        fail_on=args.fail_on,
        mapping=args.mapping,
        today=this_moment().date().isoformat(),
        limit=policy.parse_limit(args.max_increase) if args.max_increase else None,
        checks=not args.no_checks,
    )
    outcome = compare_versions(session, old, new, basis, request)
    if args.summary and form not in ("html", "json"):
        show_result("table", "table" if form == "text" else form, changes_table(outcome), args)
    else:
        show_result("changes", form, changes_report(outcome, maps=not args.summary), args, evidence=args.evidence)
    if outcome.refused and (args.fail_on or request.limit is not None):
        for sentence in outcome.refused:
            say(f"no: {sentence}")
    return finish_session(session, args, NO if outcome.refused else OK)


def _run_three_ways(args: argparse.Namespace) -> int:
    """What OLD and NEW changed since their base; the answer is no where they contradict each other."""
    refuse_idle_options(args, "--base", OUTPUT)
    form = chosen_format(args, "table")
    session = open_session(args)
    result = compare_versions_three_ways(session, args.base, args.old, args.new)
    show_result("table", form, result, args)
    return finish_session(session, args, NO if any(met.state == "conflict" for met in result.body.changes) else OK)


def _run_bills(args: argparse.Namespace) -> int:
    """What two bills of materials say otherwise, or a bill and flows."""
    refuse_idle_options(args, "bills of materials", OUTPUT)
    form = chosen_format(args, "table")
    session = open_session(args)
    result = compare_bill_files(session, args.old, args.new)
    show_result("table", form, result, args)
    return finish_session(session, args, NO if result.body.differ else OK)


def _run_clones(args: argparse.Namespace) -> int:
    """Copies in the sources named; the answer is no when something was left as it was."""
    refuse_idle_options(args, "--clones", ("--flow", "--evidence", *OUTPUT))
    if args.new is not None:
        message = f"expected one source beside --clones, found {args.old} and {args.new}"
        raise fail("option", message, "copies are looked for within what one source holds")
    form = chosen_format(args, "clones")
    session = open_session(args)
    report = find_clones(session, session.estate([args.old]), [args.flow] if args.flow else [])
    show_result("clones", form, report, args, evidence=args.evidence)
    return finish_session(session, args, NO if report.body.is_doubtful else OK)
