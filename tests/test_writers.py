"""One hostile flow through every writer: names stay text, pages stay whole, spreadsheets run nothing."""

from __future__ import annotations

import csv
import io
import json
import xml.etree.ElementTree as ET
from decimal import Decimal
from html.parser import HTMLParser
from pathlib import Path

import lxml.html
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from markdown_it import MarkdownIt
from PIL import Image

from builders import ask, flow, link, step
from conftest import Run
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.sheet import Column, Sheet, cell_text, money_text, number_text, percent_text
from zeitbuch.core.model.words import count_words, cron_words, every_words, join_words, ordinal_word
from zeitbuch.core.report.blocks import Bullets, Heading, Page, Paragraph, Quote, Table
from zeitbuch.writers.document.markdown import to_markdown_page
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.escape.text import formula_free, make_inert
from zeitbuch.writers.exchange.native import to_yaml
from zeitbuch.writers.table.grid import cell_width, fill_cells
from zeitbuch.writers.table.tables import plain_number, to_csv, to_table

HOSTILE = '=cmd|" /C calc"!A0 <script>alert(1)</script> </title></style> & "q" \'s\' `x` | [a](javascript:b) \x1b[31mred\x07 \u202egnp.exe ]]> ${x} %0A 🚢 e\u0301 '
LONG = "x" * 10_000


@pytest.fixture
def hostile(tmp_path: Path) -> Flow:
    f = flow(
        [
            ask("a", HOSTILE + "\n```\n</pre>\n" + HOSTILE, name=HOSTILE.strip()),
            step("d", "decide", name=LONG, condition=HOSTILE),
            step("b", "send", name=HOSTILE, note=HOSTILE, effect="send"),
        ],
        [link("start", "a"), link("a", "d"), link("d", "b", "case", HOSTILE, condition=LONG)],
        name=HOSTILE,
        description=HOSTILE,
        owners=(HOSTILE,),
    )
    (tmp_path / "x.yaml").write_text(to_yaml(Estate(flows=(f,))))
    return f


class Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found.append(tag)
        for name, value in attrs:
            assert not name.startswith("on") and "javascript:" not in (value or "")

    def handle_data(self, data: str) -> None:
        self.text += data


def harmless(text: str) -> None:
    assert "\x1b" not in text and "\x07" not in text and "\u202e" not in text


@pytest.mark.usefixtures("hostile")
def test_hostile_names_stay_text_everywhere(tmp_path: Path, run: Run) -> None:
    svg = run("map", "x.yaml").out
    ET.fromstring(svg)
    harmless(svg)
    assert "<script" not in svg and "&lt;script&gt;" in svg
    assert run("map", "x.yaml", "-o", "x.png").code == 0
    assert Image.open(tmp_path / "x.png").width > 500
    assert run("document", "x.yaml", "-o", "docs").code == 0
    page = next(p for p in (tmp_path / "docs").glob("*.html") if p.name != "index.html")
    tags = Tags()
    tags.feed(page.read_text())
    assert "script" not in tags.found and tags.found.count("style") == 1 and tags.found.count("main") == 1
    assert "<script>alert(1)</script>" in tags.text
    harmless(page.read_text())
    assert run("document", "x.yaml", "-f", "markdown", "-o", "md").code == 0
    for path in (tmp_path / "md").glob("*.md"):
        harmless(path.read_text())
        html = MarkdownIt("commonmark").enable("table").render(path.read_text())
        assert "<script" not in html and 'href="javascript' not in html
    for words in (
        ["inventory", "x.yaml"],
        ["estimate", "x.yaml", "--steps"],
        ["explain", "f", "--source", "x.yaml"],
        ["inventory", "x.yaml", "-f", "markdown"],
    ):
        ran = run(*words)
        assert ran.code == 0
        harmless(ran.out)
    rows = list(csv.reader(io.StringIO(run("inventory", "x.yaml", "-f", "csv").out)))
    assert rows[1][1].startswith("'=cmd")
    assert len(rows) == 2


@pytest.mark.usefixtures("hostile")
def test_hostile_names_in_changes(tmp_path: Path, run: Run) -> None:
    text = (tmp_path / "x.yaml").read_text()
    (tmp_path / "y.yaml").write_text(text.replace("calc", "clac"))
    for form in ("text", "markdown", "json", "html"):
        ran = run("diff", "x.yaml", "y.yaml", "-f", form)
        assert ran.code == 1
        if form == "html":
            page = lxml.html.fromstring(ran.out)
            links = {str(v) for v in page.xpath("//@href|//@src")}
            events = {a for e in page.iter() for a in e.attrib if str(a).startswith("on")}
            assert not page.xpath("//script") and all(v.startswith("#") for v in links) and not events
            assert not {c for c in "\x1b\u202e\x07" if c in ran.out}
        else:
            harmless(ran.out)
    (tmp_path / "z.yaml").write_text(text.replace("id: f", "id: g", 1))
    for words in (
        ["diff", "x.yaml", "y.yaml", "--summary"],
        ["record", "x.yaml"],
        ["record", "y.yaml"],
        ["history"],
        ["history", "f"],
    ):
        ran = run(*words)
        assert ran.code in (0, 1)
        harmless(ran.out)
    html = MarkdownIt("commonmark").render(run("diff", "x.yaml", "y.yaml", "-f", "markdown").out)
    assert "<script" not in html and 'href="javascript' not in html


def test_inert_and_formulas() -> None:
    assert make_inert("a\x1b[0m\nb") == "a<U+001B>[0m\nb"
    assert make_inert("a\nb\t c", keep_lines=False) == "a b c"
    assert [formula_free(t) for t in ("=1", "+1", "-1", "@x", "\tx", "1=1", "")] == [
        "'=1",
        "'+1",
        "'-1",
        "'@x",
        "'\tx",
        "1=1",
        "",
    ]


def test_numbers_for_people() -> None:
    assert [percent_text(p) for p in (0, 0.001, 0.42, 0.999, 0.9999, 1)] == [
        "0 %",
        "<1 %",
        "42 %",
        "99.9 %",
        "99.9 %",
        "100 %",
    ]
    assert [money_text(Decimal(m)) for m in ("0", "0.0000194", "0.023", "0.5", "1234.5")] == [
        "0.00",
        "0.000019",
        "0.023",
        "0.50",
        "1,234.50",
    ]
    assert [number_text(n) for n in (0, 1, 0.3333, 0.0001, 12.345, 1234.5)] == [
        "0",
        "1",
        "0.333",
        "<0.001",
        "12.3",
        "1,234",
    ]
    assert cell_text(None, "money") == "?" and cell_text(("a", "b"), "list") == "a, b"
    assert [plain_number(n) for n in (1, 0.1, Decimal("0.0000194"), 1e-12)] == ["1", "0.1", "0.0000194", "0"]


def test_words() -> None:
    assert join_words(["a", "b", "c"]) == "a, b and c"
    assert [count_words(n, w) for n, w in ((1, "step"), (2, "step"), (3, "pass"), (2, "query"), (2, "day"))] == [
        "1 step",
        "2 steps",
        "3 passes",
        "2 queries",
        "2 days",
    ]
    assert [ordinal_word(n) for n in (1, 2, 3, 11, 21)] == ["1st", "2nd", "3rd", "11th", "21st"]
    assert [every_words(s) for s in (60, 900, 3600, 86400, 45)] == [
        "every minute",
        "every 15 minutes",
        "every hour",
        "every day",
        "every 45 seconds",
    ]


@pytest.mark.parametrize(
    ("cron", "words"),
    [
        ("* * * * *", "every minute"), ("*/5 * * * *", "every 5 minutes"), ("0 * * * *", "every hour on the hour"),
        ("30 6 1 * *", "on the 1st at 06:30"), ("0 10 * * 1-5", "on weekdays at 10:00"), ("0 8,17 * * *", "daily at 08:00 and 17:00"),
        ("40 5 * * 1-6", "Monday to Saturday at 05:40"), ("0 3 * * 0", "every Sunday at 03:00"), ("5 4 1,15 6 *", "on the 1st and 15th in June at 04:05"),
        ("0 8 1 * MON", "on the 1st or every Monday at 08:00"), ("*/10 9-17 * * 1-5", "on weekdays every 10 minutes from 09:00 to 17:59"),
        ("0 0 L * *", "cron '0 0 L * *'"), ("7-9 * * * *", "cron '7-9 * * * *'"), ("x", "cron 'x'"),
    ],
)  # fmt: skip
def test_cron_in_words(cron: str, words: str) -> None:
    assert cron_words(cron) == words


SHEET = Sheet(
    (Column("name", "name"), Column("n", "count", "count"), Column("extra", "a long extra column", rank=1)),
    (("Berth delay notices", 1234, "some words that need room"), ("B", None, "")),
    ("2", 1234, ""),
)


@pytest.mark.parametrize("width", [24, 40, 60, 100])
def test_tables_fit_the_width(width: int) -> None:
    text = to_table(SHEET, width, colour=False)
    assert max(len(line) for line in text.splitlines() if "left out" not in line) <= max(width, 24)
    assert "1,234" in text and "?" in text
    assert ("left out" in text) == ("some words" not in text)


def test_csv_has_raw_numbers_and_empty_unknowns() -> None:
    rows = list(csv.reader(io.StringIO(to_csv(SHEET))))
    assert rows == [["name", "n", "extra"], ["Berth delay notices", "1234", "some words that need room"], ["B", "", ""]]


def test_markdown_blocks() -> None:
    blocks = (
        Heading(1, "A # b"),
        Paragraph("*x*", quiet=True),
        Bullets(("1. y",)),
        Quote("P", "``` in ```"),
        Table(SHEET),
    )
    html = MarkdownIt("commonmark").enable("table").render(to_markdown_page(Page("p", "P", blocks)))
    assert "<h1>A # b</h1>" in html and "<em>*x*</em>" in html and "<td>Berth delay notices</td>" in html
    assert html.count("<pre>") == 1 and "``` in ```" in html


def test_file_names_are_safe_and_different() -> None:
    assert file_names(["Ærlig/../x", "x y", "X-Y", "", "Index", "日本", "../../etc"]) == [
        "rlig-x",
        "x-y",
        "x-y-2",
        "flow",
        "index-2",
        "flow-2",
        "etc",
    ]


def test_json_of_steps_holds_decimal_text(demo: Path, run: Run) -> None:
    body = json.loads(run("estimate", "-f", "json", "--steps", cwd=demo).out)
    assert isinstance(body["total"]["cost_month"]["amount"], str)
    assert body["flows"][0]["steps"]


@settings(deadline=None)
@given(
    st.lists(st.text(st.sampled_from("ab漢字é"), min_size=1, max_size=14), min_size=1, max_size=12), st.integers(8, 40)
)
def test_sentences_are_wrapped_by_cells_and_lose_nothing(words: list[str], width: int) -> None:
    lines = fill_cells(" ".join(words), width, "- ", "  ").split("\n")
    assert all(cell_width(line) <= width for line in lines)
    assert lines[0].startswith("- ") and all(line.startswith("  ") for line in lines[1:])
    assert "".join(line[2:].replace(" ", "") for line in lines) == "".join(words)


def test_explanations_in_wide_letters_fit_the_terminal(tmp_path: Path, run: Run) -> None:
    name = "忘れ物の問い合わせに答える手順を確認して担当者に知らせる"
    steps = [{"id": f"s{i}", "kind": "send", "name": f"{name} {name} {i}"} for i in range(3)]
    path = tmp_path / "wide.json"
    path.write_text(
        json.dumps({"zeitbuch": 1, "flows": [{"id": "f", "name": name, "description": name * 4, "steps": steps}]})
    )
    out = run("explain", "f", "--source", str(path), COLUMNS="60").out
    assert name in out and max(cell_width(line) for line in out.splitlines()) <= 60
