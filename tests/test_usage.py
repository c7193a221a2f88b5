"""What fills a placeholder and what a call uses: lineage, pieces, pages, pictures, sound, reasoning, caches."""

from __future__ import annotations

from typing import Any

import pytest

from builders import ask, chain, flow, link, step
from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Binding, Flow, ModelUse, Prompt, Ref, Repeat, Schedule, Step, Trigger
from zeitbuch.core.passes.exact import Passes
from zeitbuch.core.pricing.call_content import Usage, usage_of


def reader(*sources: str, kind: str = "model", **more: Any) -> Step:
    """A step whose prompt is nothing but placeholders."""
    refs = tuple(Ref(step=s, text=f"<{s}>") for s in sources)
    use = ModelUse(name="m", prompts=(Prompt(text=" ".join(r.text for r in refs), refs=refs),), **more)
    return Step(id="ask", kind=kind, name="Ask", model=use)  # type: ignore[arg-type]


def used(f: Flow, *rules: Rule, key: str = "ask") -> Usage:
    graph, book = Graph(f), AssumptionLookup(Assumptions(assume=rules), f)
    found = usage_of(graph, graph.steps[key], Passes(graph, book).of[key], book, lambda text: float(len(text.split())))
    assert found is not None
    return found


def given(f: Flow, *rules: Rule) -> float:
    return used(f, *rules).total("input", "cached")


def test_a_models_answer_fills_the_next_prompt() -> None:
    f = chain(ask("first", task="summary"), reader("first"))
    assert given(f) == 180
    assert given(f, Rule(step="first", output=42.0)) == 42
    assert given(f, Rule(step="first", size=7.0)) == 7, "a declared size comes before the answer"
    assert given(f, Rule(step="ask", placeholder="*First*", size=3.0)) == 3, "and one for the placeholder before that"


def test_retrieved_pieces() -> None:
    k = step("find", "retrieve", inputs=(Binding("topK", 5),))
    assert given(chain(k, reader("find"))) == 5 * 400
    plain = chain(step("find", "retrieve"), reader("find"))
    assert given(plain) == 1200
    assert given(plain, Rule(step="find", items=4.0, chunk=250.0)) == 1000


def test_lists_gathered_from_loops_and_expanding_steps() -> None:
    body = [
        step("each", "loop", repeat=Repeat(items="x", count=6)),
        ask("say", task="label", scope="each"),
        reader("each"),
    ]
    f = flow(body, [link("start", "each"), link("each", "ask")])
    assert given(f) == 6 * 10, "six labels"
    inner = [
        step("each", "loop"),
        Step(**{**{k: getattr(reader("each"), k) for k in Step.__struct_fields__}, "scope": "each"}),
    ]
    assert given(flow(inner, [link("start", "each")])) == 200, "inside the loop it is one item"
    f = chain(
        step("rows", "read", yields="many"),
        ask("say", task="label", per_item=True),
        step("all", yields="one"),
        reader("all"),
    )
    assert given(f, Rule(step="rows", items=8.0)) == 8 * 10


def test_pages_fields_and_variables() -> None:
    f = chain(step("doc", "parse"), reader("doc"))
    assert given(f) == 1500
    assert given(f, Rule(step="doc", pages=4.0)) == 4 * 500
    form = Trigger(id="start", kind="form")
    field = ModelUse(name="m", prompts=(Prompt(text="<f>", refs=(Ref(step="start", path="email", text="<f>"),)),))
    assert given(chain(Step(id="ask", kind="model", model=field), triggers=(form,))) == 30
    variable = ModelUse(name="m", prompts=(Prompt(text="<v>", refs=(Ref(variable="v", text="<v>"),)),))
    assert given(chain(Step(id="ask", kind="model", model=variable))) == 20


def test_a_placeholder_that_stands_twice_is_filled_twice() -> None:
    use = ModelUse(name="m", prompts=(Prompt(text="<a> or again <a>", refs=(Ref(step="a", text="<a>"),)),))
    f = chain(step("a"), Step(id="ask", kind="model", model=use))
    assert given(f, Rule(step="a", size=100.0)) == 2 + 200


@pytest.mark.parametrize(
    ("more", "rules", "unit", "quantity"),
    [
        ({"modality": "vision"}, (Rule(images=3.0),), "image", 3),
        ({"modality": "image"}, (), "image", 1),
        ({"modality": "transcription"}, (), "second", 60),
        ({"modality": "transcription"}, (Rule(step="ask", seconds=90.0),), "second", 90),
        ({"modality": "speech"}, (Rule(step="a", size=50.0),), "characters", 200),
    ],
)
def test_other_modalities_have_their_own_units(
    more: dict[str, Any], rules: tuple[Rule, ...], unit: str, quantity: float
) -> None:
    f = chain(step("a"), reader("a", **more))
    assert used(f, *rules).total(unit) == pytest.approx(quantity)
    if more["modality"] in ("image", "transcription", "speech"):
        assert used(f, *rules).total("output") == 0


def test_pages_read_by_a_model_and_reasoning_and_caches() -> None:
    page = Step(id="ask", kind="parse", model=ModelUse(name="m"))
    assert used(chain(page), Rule(step="ask", pages=12.0)).total("page") == 12
    f = chain(ask("ask", "one two three four", task="label"))
    assert used(f, Rule(reasoning=3.0)).total("output") == 10 + 30
    cached = used(f, Rule(cached=0.75))
    assert (cached.total("input"), cached.total("cached")) == (1, 3)


def test_embedding_counts_pieces_overlap_and_calls() -> None:
    f = chain(step("doc", "read"), reader("doc", kind="embed", modality="embedding"))
    rules = (Rule(step="doc", size=1000.0), Rule(step="ask", chunk=300.0, overlap=50.0, batch_size=2.0))
    found = used(f, *rules)
    # ceil(950 / 250) = 4 pieces, 3 overlaps of 50, 2 calls.
    assert (found.total("input"), found.calls) == (1000 + 150, 2)
    assert used(f, Rule(step="doc", size=1000.0)).calls == 1


def test_answers_are_held_by_the_steps_cap() -> None:
    f = chain(ask("ask", "x", task="draft", max_output=100))
    assert used(f).total("output") == 100
    assert used(chain(ask("ask", "x", task="draft", max_output=500))).total("output") == 350


def test_schedules_of_other_kinds_are_read(tmp_path: Any, run: Any) -> None:
    from zeitbuch.readers.input.clock_texts import schedule_of_text

    assert schedule_of_text("FREQ=DAILY;BYHOUR=6", "Europe/Oslo") == Schedule(
        rule="FREQ=DAILY;BYHOUR=6", zone="Europe/Oslo"
    )
    assert schedule_of_text("R5/2026-01-01T00:00:00Z/P1D") == Schedule(repeat="R5/2026-01-01T00:00:00Z/P1D")
    assert schedule_of_text("R/PT15M") == Schedule(every=900)
    (tmp_path / "f.yaml").write_text(
        "zeitbuch: 1\nflows: [{id: f, triggers: [{id: t, kind: schedule, schedule: {rule: 'FREQ=DAILY;BYHOUR=6;BYMINUTE=0;BYSECOND=0', "
        "zone: Europe/Oslo}}], steps: [{id: a, kind: shape}]}]\n"
    )
    code, out, err = run("convert", "f.yaml", "-o", "f.bpmn", cwd=tmp_path)
    assert code == 0, err
    code, out, err = run("estimate", "f.bpmn", "-f", "csv", "--month", "2026-11", cwd=tmp_path)
    assert (code == 0 and ",30.0," in out) or ",30," in out, out
    code, out, _ = run("inventory", "f.yaml", cwd=tmp_path)
    assert "daily at 06:00 (Europe/Oslo)" in " ".join(out.split())


def test_the_api_compares(tmp_path: Any) -> None:
    import zeitbuch
    from conftest import ESTATE

    estate = zeitbuch.read(
        str(ESTATE / "november"), dialects=[str(p) for p in sorted((ESTATE / "dialects").glob("*.toml"))]
    )
    files = str(ESTATE / "rates.toml"), str(ESTATE / "assumptions.toml")
    found = zeitbuch.compare(estate, [str(ESTATE / "scenarios" / "small-model.toml")], *files)
    frame = found.to_frame()
    assert len(frame) >= 17 and found.result.options[1].difference < 0
    drawn = zeitbuch.estimate(estate, *files, runs=200)
    assert drawn.result.flows[0].spread is not None and drawn.result.flows[0].spread.runs == 200
