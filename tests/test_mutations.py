"""Mutated exports through every computation: messages, never a traceback."""

from __future__ import annotations

import copy
import json
import random
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import ESTATE, draws
from zeitbuch.app.document import DocumentFacts, DocumentMaker
from zeitbuch.app.site import site_of_run
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.diff.estate_changes import estate_changes
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.records import Estate
from zeitbuch.core.report.document import flow_page
from zeitbuch.core.report.inventory import rows_of_flows
from zeitbuch.readers.config.figures import load_rates
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.reading.reader import Reader
from zeitbuch.writers.document.html import to_html_page
from zeitbuch.writers.document.markdown import to_markdown_page
from zeitbuch.writers.exchange.native import to_yaml
from zeitbuch.writers.map.svg import to_svg
from zeitbuch.writers.site.estate_pages import estate_pages
from zeitbuch.writers.site.start_page import to_start_page
from zeitbuch.writers.theme.fonts import measure_text

CARD = load_rates(str(ESTATE / "rates.toml"))[0]
DIALECTS = [load_dialect(str(p)) for p in sorted((ESTATE / "dialects").glob("*.toml"))]
FILES = sorted([*(ESTATE / "november").rglob("*.json"), *(ESTATE / "november").rglob("*.yaml")])
ODD: list[Any] = [
    None,
    True,
    0,
    -1,
    1e300,
    "",
    "x",
    "*",
    "%[",
    "%[]%",
    "<=a.b=>",
    [],
    {},
    [[]],
    [None],
    {"": None},
    {"a": {"b": []}},
    "\x00\x1b[0m",
    "s1",
]


def places(value: Any, found: list[tuple[Any, Any]]) -> None:
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in list(items):
        found.append((value, key))
        places(inner, found)


def mutated(document: Any, draw: random.Random) -> Any:
    document = copy.deepcopy(document)
    for _ in range(draw.randint(1, 6)):
        found: list[tuple[Any, Any]] = []
        places(document, found)
        if not found:
            break
        holder, key = draw.choice(found)
        way = draw.random()
        if way < 0.5:
            holder[key] = copy.deepcopy(draw.choice(ODD))
        elif way < 0.7:
            other, place = draw.choice(found)
            holder[key] = copy.deepcopy(other[place])
        elif way < 0.85 and isinstance(holder, list):
            holder.insert(key, copy.deepcopy(draw.choice(holder)))
        elif isinstance(holder, dict):
            holder.pop(key)
    return document


@pytest.mark.parametrize("seed", range(draws(3)))
def test_mutated_exports_give_messages(seed: int, tmp_path: Path) -> None:
    draw = random.Random(seed)
    base = {p: yaml.safe_load(p.read_text()) if p.suffix == ".yaml" else json.loads(p.read_text()) for p in FILES}
    read = 0
    before = Estate()
    for n in range(60):
        path = tmp_path / f"m{n}.json"
        path.write_text(json.dumps(mutated(base[draw.choice(FILES)], draw)))
        reader = Reader(DIALECTS)
        estate = Estate(flows=tuple(reader.read_sources([str(path)])))
        read += len(estate.flows)
        assert estate.flows or reader.problems
        rows_of_flows(estate.flows)
        estate_changes(before, estate)
        to_yaml(estate)
        result = estimate_exactly(estate, CARD, Assumptions(), "2026-11")
        for flow in estate.flows:
            page = flow_page(Graph(flow), "x", result)
            to_markdown_page(page)
            to_html_page(page, to_svg(draw_scene(Graph(flow), measure_text), inline=True))
        site = site_of_run(DocumentMaker(estate.flows, result, DocumentFacts(estate)), "html")
        to_start_page(site)
        assert dict(estate_pages(site))
        before = estate
    assert read > 20
