"""The page of a map in a real browser: fold, search, keyboard, click, list, print, dark, accessibility, speed."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page

from builders import flow, link, step
from conftest import ESTATE, NEEDS_BROWSER, read
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import PLAIN, Showing
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.writers.map.map_page import to_map_page
from zeitbuch.writers.theme.fonts import measure_text

pytestmark = NEEDS_BROWSER


def page_of(made: Flow, showing: Showing = PLAIN, result: Any = None) -> str:
    graph = Graph(made)
    return to_map_page(graph, draw_scene(graph, measure_text, showing), showing, result)


@pytest.fixture(scope="module")
def letters(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = read(ESTATE, "november").flow("Customer letters")
    assert made is not None
    file = tmp_path_factory.mktemp("pages") / "letters.html"
    result = estimate_exactly(Estate(flows=(made,)), None, Assumptions(), "2026-11")
    file.write_text(page_of(made, result=result), "utf-8")
    return file


@pytest.fixture
def page(browser: Browser, letters: Path) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
    opened = context.new_page()
    said: list[str] = []
    opened.on("console", lambda m: said.append(m.text))
    opened.on("pageerror", lambda e: said.append(str(e)))
    requests: list[str] = []
    opened.on("request", lambda r: requests.append(r.url))
    opened.goto(letters.as_uri())
    yield opened
    assert not said, said
    assert set(requests) == {letters.as_uri()}, "the page needs nothing but itself"
    context.close()


def key_of(page: Page, name: str) -> str:
    """The id of the card with this name."""
    found = page.evaluate(
        "n => Object.entries(JSON.parse(document.getElementById('shape').textContent).names).find(e => e[1].endsWith(n))[0]",
        name,
    )
    return str(found)


def test_folding_closes_up_and_opens_again(page: Page) -> None:
    frame, inner, before = (
        key_of(page, "For each letter"),
        key_of(page, "Desk"),
        page.evaluate("drawing.getAttribute('viewBox')"),
    )
    page.click(f"#{frame} .toggle")
    assert not page.is_visible(f"#{inner}") and page.is_visible(f"#{frame} .shut-only")
    folded = page.evaluate("drawing.getAttribute('viewBox')")
    assert float(folded.split()[3]) < float(before.split()[3]) - 200
    page.click("#unfold")
    assert page.is_visible(f"#{inner}") and page.evaluate("drawing.getAttribute('viewBox')") == before


def test_no_line_runs_through_a_card_after_folding(browser: Browser, tmp_path: Path) -> None:
    file = tmp_path / "made.html"
    file.write_text(page_of(_made(60, 5)), "utf-8")
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    opened.goto(file.as_uri())
    frames = opened.eval_on_selector_all(".frame", "all => all.map(f => f.id)")
    rng = random.Random(4)
    for _ in range(6):
        frame = rng.choice(frames)
        opened.evaluate(
            "id => document.querySelector(`#${id} .toggle`).dispatchEvent(new MouseEvent('click', {bubbles: true}))",
            frame,
        )
        faults = opened.evaluate(_OVERLAPS)
        assert not faults, faults
    opened.close()


_OVERLAPS = """() => {
  const box = (n) => n.getBBox && n.getBoundingClientRect();
  const cards = [...document.querySelectorAll('.node:not(.gone):not(.frame)')].map((n) => {
    const rect = [...n.querySelectorAll('rect')].filter((r) => !r.classList.contains('halo'))[0];
    return [n.id, box(rect)]; });
  const faults = [];
  for (let i = 0; i < cards.length; i++) for (let j = i + 1; j < cards.length; j++) {
    const [a, b] = [cards[i][1], cards[j][1]];
    if (a.left < b.right - .5 && b.left < a.right - .5 && a.top < b.bottom - .5 && b.top < a.bottom - .5) faults.push([cards[i][0], cards[j][0]]);
  }
  const scale = drawing.getScreenCTM();
  for (const r of document.querySelectorAll('#whole > g[id^=r]:not(.gone)')) {
    const path = r.querySelector('path[fill=none]');
    if (!path) continue;
    const points = path.getAttribute('d').slice(1).split('L').map((p) => p.split(' ').map(Number))
      .map(([x, y]) => [x * scale.a + scale.e, y * scale.d + scale.f]);
    for (let i = 1; i < points.length; i++) {
      const [x1, y1] = points[i - 1], [x2, y2] = points[i];
      for (const [id, c] of cards) {
        if (Math.min(x1, x2) < c.right - 2 && Math.max(x1, x2) > c.left + 2 && Math.min(y1, y2) < c.bottom - 2 && Math.max(y1, y2) > c.top + 2)
          faults.push([r.id, id]);
      }
    }
  }
  return faults; }"""


def test_search_finds_and_jumps_into_folded_scopes(page: Page) -> None:
    page.click("#fold")
    page.fill("#q", "refund agent")
    assert page.text_content("#hits") == "1 found"
    page.press("#q", "Enter")
    card = key_of(page, "Refund agent")
    assert page.is_visible(f"#{card}") and page.text_content("#hits") == "1 of 1"
    box = page.locator(f"#{card} rect").nth(1).bounding_box()
    assert box is not None and 0 < box["y"] < 800
    page.fill("#q", "fulmar-large")
    assert page.text_content("#hits") == "2 found"


def test_click_opens_the_card_of_a_step(page: Page) -> None:
    page.click(f"#{key_of(page, 'Refund agent')} text >> nth=0")
    text = page.text_content("#panel") or ""
    for words in ("2.3 Refund agent", "Hands the task to an agent on fulmar-large-2", "Prompt", "Takes", "Is used by", "Estimate",
                  "Passes per run", "In the export", "Pay a refund"):  # fmt: skip
        assert words in text, words
    page.keyboard.press("Escape")
    assert not page.is_visible("#panel")


def test_keyboard_alone_reaches_everything(page: Page) -> None:
    page.focus("#map")
    page.keyboard.press("Tab")
    active = "document.activeElement.id"
    first = page.evaluate(active)
    seen = {first}
    for _ in range(12):
        page.keyboard.press("ArrowDown")
        seen.add(page.evaluate(active))
    assert len(seen) == page.evaluate("document.querySelectorAll('.node').length")
    page.keyboard.press("Enter")
    assert page.evaluate(active) == "close"
    page.keyboard.press("Enter")
    assert page.evaluate("document.activeElement.classList.contains('node')")
    page.keyboard.press("f")
    assert page.evaluate("document.querySelectorAll('.shut').length") == 1
    before = page.evaluate("drawing.getAttribute('width')")
    page.keyboard.press("+")
    assert float(page.evaluate("drawing.getAttribute('width')")) > float(before)


def test_drag_and_wheel_move_and_zoom(page: Page) -> None:
    for _ in range(4):
        page.click("#in")
    left, top = page.evaluate("[map.scrollLeft, map.scrollTop]")
    page.mouse.move(600, 500)
    page.mouse.down()
    page.mouse.move(500, 380, steps=4)
    page.mouse.up()
    assert page.evaluate("[map.scrollLeft, map.scrollTop]") == [left + 100, top + 120]
    assert not page.is_visible("#panel"), "a drag is no click"
    width = float(page.evaluate("drawing.getAttribute('width')"))
    page.keyboard.down("Control")
    page.mouse.wheel(0, -200)
    page.keyboard.up("Control")
    page.wait_for_function(f"parseFloat(drawing.getAttribute('width')) > {width + 50}")
    assert page.is_visible("#small"), "a map larger than the window has an overview"


def test_list_phone_dark_and_print(page: Page, tmp_path: Path) -> None:
    page.click("#view")
    assert page.is_visible("#list") and not page.is_visible("#map")
    page.click("summary:has-text('2.2 Desk')")
    opened = page.locator("#list details[open] > .body").first
    assert opened.is_visible() and "which one way to go" in (opened.text_content() or "")
    page.click("#view")
    page.emulate_media(color_scheme="dark")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(21, 27, 34)"
    page.click("#theme")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(250, 246, 236)"
    page.pdf(path=str(tmp_path / "one.pdf"), format="A4")
    page.evaluate("window.print = () => { window.printed = document.querySelectorAll('.sheet').length; }")
    page.click("#sheets")
    assert page.evaluate("window.printed") >= 2
    page.pdf(path=str(tmp_path / "many.pdf"), format="A4", landscape=True)
    one, many = ((tmp_path / f"{n}.pdf").read_bytes().count(b"/Type /Page\n") for n in ("one", "many"))
    assert many >= 2 and many > one
    page.evaluate("window.dispatchEvent(new Event('afterprint'))")
    assert page.evaluate("document.querySelectorAll('.sheet').length") == 0
    page.set_viewport_size({"width": 390, "height": 800})
    page.reload()
    assert page.is_visible("#list") and page.evaluate("document.documentElement.scrollWidth") <= 390


def test_no_accessibility_violation(page: Page, axe: str) -> None:
    page.evaluate(axe)
    run = "axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.map(v => [v.id, v.nodes.length, v.nodes[0].html.slice(0, 200)]))"
    for act in ("0", "document.querySelector('.node:not(.frame) text').dispatchEvent(new MouseEvent('click', {bubbles: true}))",
                "document.getElementById('view').click(), document.querySelectorAll('details').forEach(d => d.open = true)",
                "document.getElementById('theme').click()", "document.getElementById('view').click()"):  # fmt: skip
        page.evaluate(act)
        assert page.evaluate(run) == []


def _made(count: int, seed: int) -> Flow:
    """Chains with decisions and loops, as large as wanted."""
    rng = random.Random(seed)
    steps, links, before, scope = [], [], ["start"], None
    for i in range(count):
        kind = rng.choice(["shape", "read", "decide", "send", "loop"]) if scope is None else "shape"
        steps.append(step(f"s{i}", kind, name=f"Step number {i} of the flow", scope=scope))
        if scope is None:
            links += [link(b, f"s{i}") for b in before]
            before = [f"s{i}"] if kind != "decide" or len(before) > 2 else [f"s{i}", *before[-1:]]
            scope = f"s{i}" if kind == "loop" else None
        elif rng.random() < 0.4:
            scope = None
    return flow(steps, [k for k in links if k.source != k.target])


def test_a_thousand_steps_open(browser: Browser, tmp_path: Path) -> None:
    """All there and all foldable; how fast is measured by benchmarks/page.py."""
    file = tmp_path / "large.html"
    file.write_text(page_of(_made(1000, 1)), "utf-8")
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    opened.goto(file.as_uri())
    assert opened.evaluate("document.querySelectorAll('.node').length") == 1001
    opened.click("#fold")
    shown = opened.evaluate("document.querySelectorAll('.node:not(.gone)').length")
    assert 300 < shown < 1001
    opened.close()


def test_hostile_names_run_nothing(browser: Browser, tmp_path: Path) -> None:
    name = "<img src=x onerror=\"document.title='pwned'\"></script><script>document.title='pwned'</script>\u2028"
    file = tmp_path / "hostile.html"
    file.write_text(
        page_of(
            flow(
                [step("a", name=name), step("b", name=name)],
                [link("start", "a"), link("a", "b", "case", name)],
                name=name,
            )
        ),
        "utf-8",
    )
    opened = browser.new_page()
    opened.goto(file.as_uri())
    opened.click(".node:not(.frame) text >> nth=0")
    opened.fill("#q", "pwned")
    assert opened.title().startswith("Map of <img src=x") and opened.text_content("#hits") == "2 found"
    assert opened.evaluate("document.querySelectorAll('img').length") == 0
    opened.close()
