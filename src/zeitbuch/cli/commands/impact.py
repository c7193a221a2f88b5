"""The work of `impact`."""

from __future__ import annotations

import argparse

from zeitbuch.app.impact import ImpactRequest, draw_impact, find_impact
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.report.impact.tables import impact_sheet
from zeitbuch.core.report.presentations import TableResult


def run(args: argparse.Namespace) -> int:
    """What follows, and the map where one is asked for."""
    form = chosen_format(args, "table")
    drawn = argparse.Namespace(output=args.map, format=None)
    map_form = chosen_format(drawn, "map") if args.map else ""
    session = open_session(args)
    estate = session.estate(args.source)
    request = ImpactRequest(args.thing, args.slower, args.dearer, this_moment().date().isoformat())
    result = find_impact(session, estate, basis_of(args, session), request)
    if args.map:
        show_result("map", map_form, draw_impact(estate, "none", result), drawn)
    show_result("table", form, TableResult("impact", result, lambda full: impact_sheet(result, full)), args)
    return finish_session(session, args)
