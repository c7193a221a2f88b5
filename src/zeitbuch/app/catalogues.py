# Catalogues over an estate: what there is of one sort, where it is used and what is odd about it.
"""The use case of `list`."""

from __future__ import annotations

from msgspec import Struct

from zeitbuch.core.checks.catalogues.registry import CATALOGUES, catalogue_rows, catalogue_sheet
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.conditions import parse_condition
from zeitbuch.core.model.records import Estate
from zeitbuch.core.model.sheet import top_of
from zeitbuch.core.report.presentations import SheetResult, TableResult

from .basis import EstimateBasis
from .check_facts import gather_facts
from .session import Session


class CatalogueRequest(Struct, frozen=True):
    """Which catalogue, and which of its rows: those that hold a text, those for which a condition holds, the first so many."""

    name: str
    text: str = ""
    where: str = ""
    top: int | None = None
    today: str = ""


def list_catalogue(session: Session, estate: Estate, basis: EstimateBasis, request: CatalogueRequest) -> TableResult:
    """The rows of a catalogue. Raises ZeitbuchError for a condition that is none."""
    catalogue = CATALOGUES[request.name]
    where = parse_condition(request.where, catalogue.facts) if request.where else None
    facts = gather_facts(session, estate, basis, request.today, copies=False)
    rows = catalogue_rows(catalogue, EstateView(estate.flows, basis.card, facts), request.text, where)
    whole = catalogue_sheet(catalogue, rows, len(estate.flows))
    return TableResult("sheet", SheetResult.of(whole), lambda full: top_of(whole, request.top))
