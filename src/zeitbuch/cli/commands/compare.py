"""The work of `compare`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.compare import (
    Savings,
    compare_scenarios,
    comparison_table,
    load_scenarios,
    propose_savings,
    savings_table,
)
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.model.problems import fail
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.exchange.templates import scenario_file


def run(args: argparse.Namespace) -> int:
    """Scenarios beside the base, or proposals."""
    form = chosen_format(args, "table")
    if not args.scenario and not args.propose:
        raise fail(
            "scenario",
            "expected --scenario FILE or --propose, found neither",
            "`zeitbuch compare -h` shows a scenario file",
        )
    if args.propose:
        refuse_idle_options(args, "--propose", ("--write", "--month", *OUTPUT))
    elif args.write:
        raise fail("option", "expected --propose beside --write, found none", "it writes what is proposed")
    session = open_session(args)
    basis = basis_of(args, session)
    scenarios, problems = load_scenarios(args.scenario, basis)
    session.problems += problems
    estate = session.estate(args.source)
    if args.propose:
        savings = propose_savings(session, estate, basis)
        if not savings.proposals:
            say("nothing found that saves money")
        show_result("table", form, savings_table(savings), args)
        if args.write:
            _write_scenarios(args.write, savings, args.quiet)
        return finish_session(session, args)
    found = compare_scenarios(session, estate, basis, scenarios, not args.no_break_even, args.scenario)
    show_result("table", form, comparison_table(found, args.all), args)
    return finish_session(session, args)


def _write_scenarios(folder: str, savings: Savings, quiet: bool) -> None:
    """One scenario file a proposal that can be said as one."""
    chosen = [(proposal.scenario, proposal.check) for proposal in savings.proposals if proposal.scenario is not None]
    for (proposed, check), name in zip(chosen, file_names([proposed.name for proposed, _ in chosen]), strict=True):
        path = Path(folder) / f"{name}.toml"
        write_output(scenario_file(proposed, check), str(path))
        if not quiet:
            say(f"written  {path}")
