"""The work of `document`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.check import findings_of_estate
from zeitbuch.app.document import flow_documents
from zeitbuch.app.estimate import estimate_means
from zeitbuch.app.flows import find_flows
from zeitbuch.app.unreadable import unread_places
from zeitbuch.cli.shared.formats import rows_of_plugins
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import write_output
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.writers.outputs.rendering import render_files


def run(args: argparse.Namespace) -> int:
    """One page a flow, and an index."""
    session = open_session(args)
    estate = session.estate(args.source)
    basis = basis_of(args, session)
    result = estimate_means(session, estate, basis)
    found: dict[str, list[CheckFinding]] = {}
    for one in findings_of_estate(session, estate, basis, this_moment().date().isoformat()):
        found.setdefault(one.flow_id, []).append(one)
    flows = find_flows(estate, args.flow)
    unread = sorted(
        {name if member is None else f"{name}!{member}" for name, member in unread_places(session.problems)}
    )
    with session.progress(len(flows), "writing") as advance:
        for place, document in enumerate(flow_documents(flows, result, unread, session.problems, found, estate)):
            for path, text in render_files("document", args.format, document, rows_of_plugins).items():
                write_output(text, str(Path(args.output) / path))
            advance(place)
    return finish_session(session, args)
