"""The work of `document`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.document import flow_documents
from zeitbuch.app.estimate import estimate_means
from zeitbuch.app.flows import find_flows
from zeitbuch.app.unreadable import unread_places
from zeitbuch.cli.shared.formats import rows_of_plugins
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session
from zeitbuch.cli.shared.stream import write_output
from zeitbuch.writers.outputs.rendering import render_files


def run(args: argparse.Namespace) -> int:
    """One page a flow, and an index."""
    session = open_session(args)
    estate = session.estate(args.source)
    result = estimate_means(session, estate, basis_of(args, session))
    flows = find_flows(estate, args.flow)
    unread = sorted(
        {name if member is None else f"{name}!{member}" for name, member in unread_places(session.problems)}
    )
    with session.progress(len(flows), "writing") as advance:
        for place, document in enumerate(flow_documents(flows, result, unread, session.problems)):
            for path, text in render_files("document", args.format, document, rows_of_plugins).items():
                write_output(text, str(Path(args.output) / path))
            advance(place)
    return finish_session(session, args)
