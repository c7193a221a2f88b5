"""What each fast path saves against the plain way, in CPU seconds, both in one run: python benchmarks/fast_paths.py [ROUNDS]."""

from __future__ import annotations

import json
import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonpath_rfc9535 as jsonpath

import zeitbuch
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.volume import parse_month
from zeitbuch.core.estimate.flow_figures import one_run
from zeitbuch.core.graph.cycles import cycle_problems
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.validation import in_plain_order, mend_flow
from zeitbuch.core.pricing import languages
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.report.inventory import Row, inventory_row
from zeitbuch.readers.config.figures import load_rates
from zeitbuch.readers.dialects.field_checks import refused_values
from zeitbuch.readers.dialects.query import Query
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.dialects.steps import StepReader
from zeitbuch.readers.input.limits import Limits, measure_tree
from zeitbuch.readers.input.sources import list_files
from zeitbuch.readers.reading.parallel import ReadingRun, ReadingSetting
from zeitbuch.readers.reading.reader import Reader
from zeitbuch.readers.secrets.masker import Masker
from zeitbuch.writers.table import grid, tables

ESTATE = Path(zeitbuch.__file__).parent / "demo" / "estate"
Work = Callable[[], Any]


def cpu(work: Work, times: int) -> float:
    start = time.process_time()
    for _ in range(times):
        work()
    return time.process_time() - start


def keys_in(value: Any, found: set[str]) -> set[str]:
    if isinstance(value, dict):
        found.update(value)
    for item in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
        keys_in(item, found)
    return found


def rows(folder: Path) -> list[tuple[str, int, Work, Work]]:
    """(name, repetitions, fast, plain)."""
    dialects = [load_dialect(str(path)) for path in sorted((ESTATE / "dialects").glob("*.toml"))]
    inputs = list(list_files([str(ESTATE / "november")]))
    flows = list(Reader(dialects).flows_of(inputs))
    documents = [json.loads(path.read_bytes()) for path in sorted((ESTATE / "november").rglob("*.json"))]
    signs = [(json.dumps(document).encode(), keys_in(document, set()), document) for document in documents]
    masker = Masker()
    clean = [row for row in signs if masker.mask_document(row[2], row[0], row[1]) is row[2]]
    path = Query("$.steps[*]")
    engine = jsonpath.compile("$.steps[*]")
    prices, month = Prices(load_rates(str(ESTATE / "rates.toml"))[0], parse_month("2026-11")), parse_month("2026-11")
    plain = [flow for flow in flows if in_plain_order(flow)]
    sheet = Sheet((Column("a", "a"), Column("b", "b", "count")), tuple((f"flow {i % 7}", i % 5) for i in range(2000)))
    cells = tables._all_cells(sheet)
    english = ["Read the letter and return the most likely reason for the complaint as one word."] * 200

    stations = [
        station
        for document in documents
        if isinstance(document.get("sheet"), dict)
        for station in document["sheet"]["stations"]
    ]
    strandline = next(dialect for dialect in dialects if dialect.name == "strandline")
    steps = StepReader(strandline)
    checked = [(steps.plan_for(station).field_checks, station) for station in stations]

    def read(**way: bool) -> Work:
        return lambda: [inventory_row(flow) for flow in Reader(dialects, **way).flows_of(inputs)]

    def listed(cache: bool) -> Work:
        setting = ReadingSetting(dialects, Limits(), outline=True, texts=False)
        return lambda: [r for _, r in ReadingRun(setting, inputs, inventory_row, Row, cache=cache, workers=1)]

    def masked(every: list[Any], look: bool) -> None:
        for raw, keys, document in every:
            masker.mask_document(document, raw if look else None, keys)

    def scored(lines: list[str]) -> None:
        foreign, languages._FOREIGN = languages._FOREIGN, frozenset(lines[0].lower().split())
        for line in lines:
            languages.language_of(line, line.lower().split())
        languages._FOREIGN = foreign

    return [
        ("plain order: no mending", 50, lambda: [in_plain_order(f) for f in plain],
         lambda: [(mend_flow(f), cycle_problems(f)) for f in plain]),
        ("outlines without texts", 3, read(outline=True, texts=False), read()),
        ("plain queries walked", 50, lambda: [path.find_all(d) for d in documents],
         lambda: [list(engine.find(d)) for d in documents]),
        ("no sign of a secret", 5, lambda: masked(clean, True), lambda: masked(clean, False)),
        ("a sign of a secret", 5, lambda: masked(signs, True), lambda: masked(signs, False)),
        ("values counted by the interpreter", 50, lambda: [measure_tree(d, Limits(), plain=True) for d in documents],
         lambda: [measure_tree(d, Limits()) for d in documents]),
        ("fields in order by their types", 50, lambda: [checks.refused_in(s) for checks, s in checked],
         lambda: [refused_values(s, checks.fields) for checks, s in checked]),
        ("rows from the cache", 3, listed(True), listed(False)),
        ("English without scores", 5, lambda: [languages.language_of(x, x.lower().split()) for x in english],
         lambda: scored(english)),
        ("sums without parts", 5, lambda: [one_run(f, Assumptions(), prices, month, detail=False) for f in flows],
         lambda: [one_run(f, Assumptions(), prices, month) for f in flows]),
        ("cells worded once", 3, lambda: tables._all_cells(sheet),
         lambda: [tables._row_texts(row, sheet.columns) for row in sheet.rows]),
        ("columns padded at once", 3, lambda: grid.align_rows(cells, [9, 6], [False, True]),
         lambda: [[grid._align_cell.__wrapped__(c, w, r) for c, w, r in zip(row, (9, 6), (False, True), strict=True)] for row in cells]),
    ]  # fmt: skip


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as name:
        os.environ["XDG_CACHE_HOME"] = name
        print(f"{'fast path':<36} {'fast, ms':>9} {'plain, ms':>10} {'ratio':>6}")
        for title, times, fast, plain in rows(Path(name)):
            fast(), plain()
            pairs = [(cpu(fast, times), cpu(plain, times)) for _ in range(rounds)]
            one, two = (statistics.median(column) / times * 1000 for column in zip(*pairs, strict=True))
            print(f"{title:<36} {one:>9.3f} {two:>10.3f} {two / one:>6.1f}")


if __name__ == "__main__":
    main()
