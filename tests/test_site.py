"""The site of all documents: its rows over several runs, its names, its pages, and the start page in a real browser."""

from __future__ import annotations

import json
import random
import re
import shutil
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from playwright.sync_api import Browser, Page

from builders import flow
from conftest import NEEDS_BROWSER, Run
from zeitbuch.core.assumptions.money import Shares, evidence_words
from zeitbuch.core.model.records import Flow
from zeitbuch.core.report.blocks import Facts, Heading, Links, Table
from zeitbuch.core.report.site.estate_maps import MOST_CARDS, folded_map, opened_map
from zeitbuch.core.report.site.pages import GROUPINGS, figures_of, group_page, index_page, summary_page
from zeitbuch.core.report.site.rows import Site, SiteRow, gone_files, merged_site, page_files
from zeitbuch.writers.site.estate_pages import estate_pages
from zeitbuch.writers.site.start_page import to_start_page

OWNERS, FOLDERS = GROUPINGS[0], GROUPINGS[1]


def row(id: str, **more: Any) -> SiteRow:
    return SiteRow(id, more.pop("name", id.upper()), more.pop("file", id), **more)


# -- names of pages -------------------------------------------------------------------------------------------------------------------------


def named(*ids: str, **more: Any) -> list[Flow]:
    return [flow([], [], id=id, **more) for id in ids]


def test_names_are_made_of_ids_and_never_a_path() -> None:
    assert page_files(named("letters", "SH-1052", "../../etc/passwd", "a/b")) == [
        "letters",
        "sh-1052",
        "etc-passwd",
        "a-b",
    ]
    reserved = page_files(named("index", "con", "summary", "", "Ü"))
    assert all(re.fullmatch(r"[a-z0-9-]+", file) for file in reserved) and not {"index", "con", "summary"} & set(
        reserved
    )
    alike = page_files(named("A b", "a-b", "a_b"))
    assert len(set(alike)) == 3 and all(file.startswith("a-b") for file in alike)


@given(st.lists(st.text("aAbB-_ ./ü", max_size=4), unique=True, max_size=8), st.integers(0, 999))
def test_names_do_not_depend_on_the_order_and_stay(ids: list[str], seed: int) -> None:
    flows = named(*ids)
    files = page_files(flows)
    assert len(set(files)) == len(files)
    shuffled = random.Random(seed).sample(flows, len(flows))
    assert dict(zip(ids, files, strict=True)) == dict(
        zip([one.id for one in shuffled], page_files(shuffled), strict=True)
    )
    known = [SiteRow(one.id, one.title, file) for one, file in zip(flows, files, strict=True)]
    part = shuffled[: len(shuffled) // 2]
    assert page_files(part, known) == [files[ids.index(one.id)] for one in part]
    newcomer = named("a")[0]
    if "a" not in ids:
        assert page_files([newcomer], known)[0] not in files  # takes no other flow's name


def test_a_flow_that_is_called_otherwise_keeps_its_page_and_two_of_one_id_have_two() -> None:
    known = [SiteRow("a", "Old name", "a-page")]
    assert page_files(named("a", name="New name"), known) == ["a-page"]
    two = [*named("a", name="One"), *named("a", name="Two")]
    assert len(set(page_files(two))) == 2


# -- rows over several runs --------------------------------------------------------------------------------------------------------------------


def test_a_run_over_a_part_leaves_the_others_and_only_the_whole_run_finds_flows_gone() -> None:
    first = Site((row("a", forms={"html": "x"}), row("b", forms={"html": "x"})), "2026-10", "EUR")
    part = merged_site(first, Site((row("b", name="B2", forms={"markdown": "y"}),), "2026-11", "EUR"))
    assert [(one.id, one.name, one.forms, one.gone) for one in part.rows] == [
        ("a", "A", {"html": "x"}, False),
        ("b", "B2", {"html": "x", "markdown": "y"}, False),
    ]
    whole = merged_site(part, Site((row("b", forms={"html": "x"}),)), gone_files(part, {"b"}, []))
    assert [(one.id, one.gone) for one in whole.rows] == [("b", False), ("a", True)]
    later = merged_site(whole, Site((row("b", forms={"html": "x"}),)))
    assert [(one.id, one.gone) for one in later.rows] == [("b", False), ("a", True)]  # gone it stays
    back = merged_site(whole, Site((row("a", forms={"html": "x"}),)))
    assert not any(one.gone for one in back.rows)


def test_what_an_earlier_run_found_is_said_to_be_so() -> None:
    first = Site((row("a", review="valid", state="on"), row("b", review="open", state="on")))
    part = merged_site(first, Site((row("b", review="valid", state="on"),)))
    assert [(one.id, one.earlier) for one in part.rows] == [("a", True), ("b", False)]
    assert dict(figures_of(part, part.rows))["As an earlier run found them"] == "1 of 2"
    assert to_start_page(part).count("as an earlier run found it") == 1
    assert "valid, as an earlier run found it" in str(index_page(part).blocks)
    whole = merged_site(part, first)
    assert "earlier" not in to_start_page(whole) and not any(one.earlier for one in whole.rows)


def test_of_flows_in_a_file_that_could_not_be_read_nobody_says_they_are_gone() -> None:
    before = Site((row("a", place="x/a.json"), row("b", place="b.json"), row("c", place="pack/c.json")))
    assert gone_files(before, set(), ["/home/somebody/x/a.json", "all.zip!pack/c.json"]) == {"b"}
    # A package as a whole, or a file whose documents are flows: what they held is not known by their names.
    assert gone_files(before, set(), ["x/a.json", "exports.zip"]) == set()
    begun = merged_site(Site(), Site(before.rows, unread=("notes.json",)))
    assert gone_files(begun, set(), ["notes.json"]) == {"a", "b", "c"}  # it never held a flow
    again = merged_site(begun, Site(before.rows, unread=("notes.json", "exports.zip")))
    assert gone_files(again, set(), ["exports.zip"]) == set()


def test_sums_say_what_they_leave_out() -> None:
    rows = [
        row("a", state="on", calls=10.0, cost=1.0, month="2026-11", currency="EUR"),
        row("b", state="on", month="2026-11", currency="EUR"),
        row("c", state="off", calls=5.0, cost=7.0, month="2026-10", currency="EUR"),  # of an earlier run
        row("d", state="off", calls=1.0, cost=0.5, month="2026-11", currency="EUR", all_priced=False),
    ]
    said = dict(figures_of(Site(tuple(rows), "2026-11", "EUR"), rows))
    assert said["Flows"] == "4 (2 in use, 2 switched off)"
    assert said["AI calls in 2026-11"] == "at least 11; of 2 flows it is not known"
    assert said["Cost in 2026-11"] == "at least 1.50 EUR; of 3 flows it is not known"
    assert "Findings" not in said and "Review" not in said
    assert dict(figures_of(Site((), "2026-11", "EUR"), rows[1:2]))["Cost in 2026-11"] == "not known"
    assert dict(figures_of(Site(), [row("a", high=0, medium=2, low=0)]))["Findings"] == "2 medium"


# -- pages ---------------------------------------------------------------------------------------------------------------------------------------


def site(count: int = 6) -> Site:
    """Flows of two owners that lead in a ring, one without an owner."""
    owners = [("Ida",), ("Jon",), ()]
    rows = [
        row(f"f{n}", owners=owners[n % 3], state="on", month="2026-11", currency="EUR", calls=float(n), cost=float(n), cost_words=f"{n}.00 EUR in 2026-11",
            high=n % 2, medium=0, low=1, review="open", effects=("send",), calls_flows=(f"f{(n + 1) % count}", "nowhere"), forms={"html": "x"})
        for n in range(count)
    ]  # fmt: skip
    return Site(tuple(rows), "2026-11", "EUR")


def test_pages_that_group() -> None:
    page = group_page(site(), OWNERS)
    heads = [block.text for block in page.blocks if isinstance(block, Heading)]
    assert heads == ["By owner", "Ida", "Jon", "no owner named"]
    links = [block for block in page.blocks if isinstance(block, Links)]
    assert [[file for _, file, _ in one.items] for one in links] == [["f0", "f3"], ["f1", "f4"], ["f2", "f5"]]
    assert links[0].items[1][2] == "3.00 EUR in 2026-11; 1 high, 1 low; open"
    index = index_page(merged_site(site(), site(), {"f5"}), ["x.json"])
    assert "no activity" not in str(index.blocks) and "x.json" in str(index.blocks[-1])


def test_the_summary_has_what_a_board_asks() -> None:
    page = summary_page(site(), ["1 flow changed", "‘F0’: model: a → b"])
    heads = [block.text for block in page.blocks if isinstance(block, Heading)]
    assert heads == ["Summary", "Since the last recorded version", "The dearest flows", "What flows do outside", "What is wrong",
                     "Whose signature is missing or no more holds"]  # fmt: skip
    dearest = next(block for block in page.blocks if isinstance(block, Table))
    assert [cells[0] for cells in dearest.sheet.rows] == ["F5", "F4", "F3", "F2", "F1"] and dearest.sheet.rows[0][
        3
    ] == pytest.approx(1 / 3)
    outside = next(block for block in page.blocks if isinstance(block, Facts) and block.pairs[0][0] == "Sends")
    assert outside.pairs[0][1].startswith("6 flows: F0, F1")


def test_folded_maps_count_what_leads_where() -> None:
    made = folded_map(site(), OWNERS)
    assert made.view is not None
    names = {step.id: step.name for step in made.view.graph.flow.steps}
    found = {(names[link.source], names[link.target]): link.label for link in made.view.graph.flow.links}
    assert found == {
        ("Ida", "Jon"): "2 links",
        ("Jon", "no owner named"): "2 links",
        ("no owner named", "Ida"): "2 links",
    }
    opened = opened_map(site(), OWNERS, "Ida")
    assert opened.view is not None
    assert {step.name for step in opened.view.graph.flow.steps} == {"F0", "F3", "Jon", "no owner named"}
    assert opened.links["flow f0"] == "f0" and len(opened.view.graph.flow.links) == 4


def test_a_large_estate_is_folded_and_what_is_not_drawn_is_listed() -> None:
    rows = [row(f"f{n}", owners=(f"O{n // 4}",), folder="F", calls_flows=(f"f{(n * 7) % 2000}",)) for n in range(2000)]
    large = Site(tuple(rows))
    made = folded_map(large, OWNERS)
    assert (
        made.view is not None
        and len(made.view.graph.flow.steps) == MOST_CARDS
        and len(made.left_out) == 500 - MOST_CARDS
    )
    opened = opened_map(large, FOLDERS, "F")
    assert (
        opened.view is not None
        and len(opened.view.graph.flow.steps) == MOST_CARDS
        and len(opened.left_out) == 2000 - MOST_CARDS
    )


def test_all_links_of_a_site_lead_somewhere(demo: Path, run: Run) -> None:
    assert run("record", cwd=demo).code == 0
    assert run("document", "-o", "site", cwd=demo).code == 0
    pages = {path: path.read_text() for path in (demo / "site").rglob("*.html")}
    links = [(path, link) for path, text in pages.items() for link in re.findall(r'href="?([^"> ]+)', text)]
    assert len(links) > 200
    for path, link in links:
        file, _, anchor = link.partition("#")
        target = (path.parent / file).resolve() if file else path
        assert target in {one.resolve() for one in pages} | {path}, (path, link)
        if anchor:
            assert re.search(f'id="?{re.escape(anchor)}["> ]', target.read_text()), (path, link)
    assert "Nothing changed in meaning since snapshot 1" in pages[demo / "site" / "index.html"]
    total = json.loads(run("estimate", "--format", "json", cwd=demo).out)["total"]
    index = pages[demo / "site" / "index.html"]
    assert f">{total['calls_month']:,.0f}<" in index
    # What the money rests on stands beside it, as `estimate` says it.
    assert f"<dt>Bill is based on</dt><dd>{evidence_words(msgspec.convert(total['evidence'], Shares))}</dd>" in index
    assert "based on" in pages[demo / "site" / "summary.html"]


def test_pages_that_group_go_by_what_may_run(tmp_path: Path, run: Run) -> None:
    steps = [
        {"id": "g", "kind": "group", "name": "Clean up", "enabled": False},
        {"id": "d", "kind": "http", "name": "Drop", "effect": "delete", "scope": "g", "connection": "k"},
        {"id": "c", "kind": "subflow", "name": "Hand over", "calls": "b", "enabled": False},
        {"id": "s", "kind": "send", "name": "Tell", "effect": "send", "connection": "m"},
    ]
    links = [{"source": one, "target": other} for one, other in ("tg", "gc", "cs")]
    first = {"id": "a", "name": "Letters", "connections": [{"id": "k", "name": "Bookings"}, {"id": "m", "name": "Mail"}],
             "triggers": [{"id": "t", "kind": "form"}], "steps": steps, "links": links}  # fmt: skip
    second = {
        "id": "b",
        "name": "Desk",
        "triggers": [{"id": "t", "kind": "call"}],
        "steps": [{"id": "x", "kind": "shape"}],
    }

    def rows(enabled: bool) -> Any:
        steps[0]["enabled"] = steps[2]["enabled"] = enabled
        (tmp_path / "e.json").write_text(json.dumps({"zeitbuch": 1, "flows": [first, second]}))
        assert run("document", "e.json", "-o", "out", "--quiet").code == 0
        (one,) = [
            row for row in json.loads((tmp_path / "out" / "zeitbuch-site.json").read_text())["rows"] if row["id"] == "a"
        ]
        return (
            one["effects"],
            {use["name"]: use.get("does", "") for use in one["connections"]},
            one.get("calls_flows", []),
        )

    assert rows(True) == (["delete", "send"], {"Bookings": "deletes", "Mail": "sends"}, ["b"])
    assert rows(False) == (["send"], {"Bookings": "nothing as it stands", "Mail": "sends"}, [])


def test_parts_and_flows_that_are_gone(demo: Path, run: Run) -> None:
    """A part never shrinks the index; a flow that went is marked on its page and in the index, one whose file is broken is not; edits stay."""
    assert run("document", "november/native", "-o", "site", cwd=demo).code == 0
    assert run("document", "november/kvarte", "-o", "site", cwd=demo).code == 0
    index = demo / "site" / "index.html"
    assert all(f'href="{name}.html"' in index.read_text() for name in ("fault-logger", "monthly-report", "letters"))
    before = {path.name for path in (demo / "site").glob("*.html")}
    assert run("document", "--flow", "letters", "-o", "site", cwd=demo).code == 0
    assert {path.name for path in (demo / "site").glob("*.html")} == before
    assert run("document", "-o", "site", cwd=demo).code == 0
    assert "class=gone" not in (demo / "site" / "letters.html").read_text()
    (demo / "november" / "native" / "monthly-report.yaml").unlink()
    (demo / "november" / "native" / "fault-logger.yaml").write_text("zeitbuch: [")
    edited = demo / "site" / "crew-swap.html"
    edited.write_text(edited.read_text().replace("Crew swap", "My crew swap"))
    shutil.rmtree(demo / "november" / "standards")
    ran = run("document", "-o", "site", cwd=demo)
    assert ran.code == 2 and "crew-swap.html filled in or edited" in ran.err
    rows = {one["id"]: one for one in json.loads((demo / "site" / "zeitbuch-site.json").read_text())["rows"]}
    assert rows["monthly-report"]["gone"] and not rows["fault-logger"]["gone"] and not rows["letters"]["gone"]
    text = (demo / "site" / "monthly-report.html").read_text()
    assert (
        text.count("no more in the sources") == 1
        and "class=gone" not in (demo / "site" / "fault-logger.html").read_text()
    )
    assert "No more in the sources" in index.read_text() and "My crew swap" in edited.read_text()
    run("document", "-o", "site", cwd=demo)
    assert (demo / "site" / "monthly-report.html").read_text() == text
    (demo / "site" / "zeitbuch-site.json").write_text("{")
    assert "expected the list of this folder's pages" in run("document", "-o", "site", cwd=demo).err


def test_a_gate_for_pages(recorded_site: Path, run: Run) -> None:
    demo = recorded_site
    verify = ["document", "-o", "site", "--verify"]
    assert run(*verify, cwd=demo).code == 0  # nothing is signed yet, and that is no fault of a page
    letters = demo / "november" / "strandline" / "berth-delay.json"
    text = letters.read_text()
    letters.write_text(text.replace("minor (under 15 minutes)", "minor (under 10 minutes)"))
    ran = run(*verify, cwd=demo)
    assert ran.code == 1 and ran.err.count("no: ") == 1
    assert "no: Berth delay notices: its page sh-1052.html describes another state (" in ran.err
    # A page that somebody edited is left as it is: it still describes the old state.
    page = demo / "site" / "sh-1052.html"
    page.write_text(page.read_text().replace("Sign-off", "Sign here"))
    assert run("document", "-o", "site", cwd=demo).code == 2
    assert "sh-1052.html describes another state" in run(*verify, cwd=demo).err
    assert run("document", "-o", "site", "--force", cwd=demo).code == 0 and run(*verify, cwd=demo).code == 0
    page.unlink()
    assert "its page sh-1052.html is missing" in run(*verify, cwd=demo).err
    assert run("document", "--flow", "letters", "-o", "site", "--verify", cwd=demo).code == 0
    letters.unlink()
    assert "no more in the sources, and does not say so" in run(*verify, cwd=demo).err
    assert "expected a folder of documents" in run("document", "-o", "nowhere", "--verify", cwd=demo).err


def test_the_gate_calls_no_flow_gone_that_cannot_be_read(recorded_site: Path, run: Run) -> None:
    (recorded_site / "november" / "native" / "fault-logger.yaml").write_text("zeitbuch: [")
    ran = run("document", "-o", "site", "--verify", cwd=recorded_site)
    assert ran.code == 2 and "no: " not in ran.err and "fault-logger.yaml" in ran.err


def test_the_gate_knows_signatures(recorded_site: Path, run: Run) -> None:
    assert run("record", cwd=recorded_site).code == 0
    for role, by in (("owner", "Maren Dahl"), ("auditor", "Ola Tveit")):
        assert (
            run(
                "review", "sign", "letters", "--role", role, "--by", by, "--until", "2999-01-01", cwd=recorded_site
            ).code
            == 0
        )
    assert run("document", "-o", "site", "--verify", cwd=recorded_site).code == 0
    assert (
        run(
            "review",
            "sign",
            "letters",
            "--role",
            "owner",
            "--by",
            "Maren Dahl",
            "--verdict",
            "refused",
            cwd=recorded_site,
        ).code
        == 0
    )
    ran = run("document", "-o", "site", "--verify", cwd=recorded_site)
    assert ran.code == 1 and "no: Customer letters: owner: refused" in ran.err


@pytest.fixture
def recorded_site(demo: Path, run: Run) -> Path:
    assert run("document", "-o", "site", cwd=demo).code == 0
    return demo


def test_hostile_rows_are_text() -> None:
    evil = "</script><img src=x onerror=alert(1)>\"'&"
    bad = Site(
        (
            row("x", name=evil, owners=(evil,), folder=evil, trigger=evil, state="on", calls_flows=("y",)),
            row("y", owners=("b",)),
        )
    )
    for text in (to_start_page(bad, [evil], [evil, evil]), *dict(estate_pages(bad)).values()):
        assert "<img" not in text and "onerror=alert(1)>" not in text


# -- in a browser ----------------------------------------------------------------------------------------------------------------------------------


def opened(browser: Browser, file: Path, **more: Any) -> tuple[Page, list[str]]:
    page = browser.new_context(viewport={"width": 1280, "height": 800}, **more).new_page()
    said: list[str] = []
    page.on("console", lambda message: said.append(message.text))
    page.on("pageerror", lambda error: said.append(str(error)))
    page.on("request", lambda request: said.append(request.url) if not request.url.startswith("file:") else None)
    page.goto(file.as_uri())
    return page, said


class TestStartPage:
    pytestmark = NEEDS_BROWSER

    def test_sorts_filters_and_finds(self, browser: Browser, tmp_path: Path) -> None:
        file = tmp_path / "index.html"
        rows = (*site(6).rows, row("g", name="Zoo", state="off", owners=("Ida", "Jon")))
        file.write_text(to_start_page(Site(rows, "2026-11", "EUR")))
        page, said = opened(browser, file)

        def shown() -> list[str]:
            return page.eval_on_selector_all(
                "#flows tbody tr", "rows => rows.filter(r => !r.hidden).map(r => r.cells[0].textContent)"
            )  # type: ignore[no-any-return]

        def sort(title: str) -> None:
            page.click(f"#flows th button:text-is('{title}')")

        assert len(shown()) == 7 and page.text_content("#count") == "7 flows"
        sort("EUR in 2026-11")
        assert shown() == ["F0", "F1", "F2", "F3", "F4", "F5", "Zoo"]
        sort("EUR in 2026-11")  # what is not known stands last, whichever way
        assert shown() == ["F5", "F4", "F3", "F2", "F1", "F0", "Zoo"]
        assert page.get_attribute("#flows th:has(button:text-is('EUR in 2026-11'))", "aria-sort") == "descending"
        page.select_option("select >> nth=1", "Jon")
        assert shown() == ["F4", "F1", "Zoo"]  # one of two owners counts
        page.fill("#q", "zo")
        assert shown() == ["Zoo"] and page.text_content("#count") == "1 of 7 flows"
        page.fill("#q", "")
        page.select_option("select >> nth=1", "")
        sort("flow")
        assert shown() == ["F0", "F1", "F2", "F3", "F4", "F5", "Zoo"] and not said

    def test_without_scripts_all_is_there(self, browser: Browser, tmp_path: Path) -> None:
        for name, text in (("index.html", to_start_page(site())), *estate_pages(site())):
            (tmp_path / name).parent.mkdir(exist_ok=True)
            (tmp_path / name).write_text(text)
        page, _ = opened(browser, tmp_path / "index.html", java_script_enabled=False)
        assert page.locator("#flows tbody tr:visible").count() == 6 and not page.locator("#q").is_visible()
        page, _ = opened(browser, tmp_path / "estate.html", java_script_enabled=False)
        assert page.locator("#all li:visible").count() == 6 and not page.locator("#q").is_visible()

    def test_cards_of_folded_maps_lead_to_open_ones(self, browser: Browser, tmp_path: Path) -> None:
        for name, text in estate_pages(site()):
            (tmp_path / name).parent.mkdir(exist_ok=True)
            (tmp_path / name).write_text(text)
        page, said = opened(browser, tmp_path / "estate.html")
        page.fill("#q", "f3")
        assert page.locator("#all li:visible").count() == 1
        page.click("svg a:has-text('Ida') >> nth=0")
        assert page.text_content("h1") == "Ida" and page.get_attribute("svg a:has-text('F3')", "href") == "../f3.html"
        page.click("svg a:has-text('Jon')")
        assert page.text_content("h1") == "Jon" and not said

    @pytest.mark.parametrize("scheme", ["light", "dark"])
    def test_no_accessibility_violation(self, browser: Browser, axe: str, demo: Path, run: Run, scheme: str) -> None:
        assert run("document", "november/kvarte", "-o", "site", cwd=demo).code == 0
        find = "axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.map(v => [v.id, v.nodes.length, v.nodes[0].html.slice(0, 200)]))"
        for name in ("index", "summary", "estate", "connections", "letters"):
            page, _ = opened(browser, demo / "site" / f"{name}.html", color_scheme=scheme, bypass_csp=True)
            page.evaluate(axe)
            assert page.evaluate(find) == [], name
            page.set_viewport_size({"width": 390, "height": 800})
            assert page.evaluate("document.documentElement.scrollWidth") <= 390, name


def test_pages_define_every_colour_of_their_maps_for_light_and_dark(run: Run, demo: Path) -> None:
    run("document", "-o", "pages", "--quiet", cwd=demo)
    run("diff", "october", "november", "-o", "pages/changes.html", "--quiet", cwd=demo)
    for name in ("letters.html", "estate.html", "changes.html"):
        page = (demo / "pages" / name).read_text()
        used = set(re.findall(r'(?:fill|stroke)="var\((--\w+)\)"', page))
        light, dark = re.findall(r":root \{([^}]*)\}", page)[:2]
        assert {"--ink", "--paper", "--card"} <= used and "#faf6ec" not in page.split("<body>")[1].split("</defs>", 1)[
            1
        ][:4000]
        assert used <= set(re.findall(r"(--\w+):", light)) and used <= set(re.findall(r"(--\w+):", dark)), name
