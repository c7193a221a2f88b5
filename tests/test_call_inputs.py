"""What feeds a call: inputs as well as prompts, sizes through steps that shape data, pieces, lengths that prompts ask for, and every number declared."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec import structs

from builders import ask, chain, flow, link, step
from test_estimate import CARD
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run
from zeitbuch.core.model.records import Binding, Flow, ModelUse, Pieces, Prompt, Ref
from zeitbuch.core.pricing.asked_answers import asked_length
from zeitbuch.core.pricing.call_content import Usage
from zeitbuch.core.pricing.call_prices import Prices

MONTH = (2026, 2)


def run_of(f: Flow, *rules: Rule) -> FlowFigures:
    return one_run(f, Assumptions(assume=rules), Prices(CARD, MONTH), MONTH)


def usage(f: Flow, key: str, *rules: Rule) -> Usage:
    return run_of(f, *rules).uses[key]


def named(name: str, value: Any = None, source: str = "", **more: Any) -> Binding:
    refs = (Ref(step=source, text=value),) if source else ()
    return Binding(name=name, value=value, refs=refs, **more)


def reading(key: str, kind: str, *inputs: Binding, modality: str = "text") -> Any:
    return step(key, kind, model=ModelUse(name="fulmar-mini-2", modality=modality), inputs=inputs)  # type: ignore[arg-type]


@pytest.mark.parametrize("name", ["text", "input", "what_to_say"])
def test_a_text_held_as_an_input_is_counted_as_one_in_a_prompt(name: str) -> None:
    text = "The ferry to Halvorsund is late by an hour."
    spoken = reading("m", "model", named(name, text), named("voice", "anna"), modality="speech")
    prompt = step("m", "model", model=ModelUse(name="fulmar-mini-2", modality="speech", prompts=(Prompt(text=text),)))
    by_input, by_prompt = usage(chain(spoken), "m"), usage(chain(prompt), "m")
    assert by_input.total("characters") == by_prompt.total("characters") == len(text)


def test_without_any_text_a_call_reads_what_comes_before_it() -> None:
    f = chain(step("r", "read"), reading("m", "model"))
    assert usage(f, "m").total("input") == 300  # what a reading step hands on
    assert usage(f, "m", Rule(step="r", size=1234.0)).total("input") == 1234


def test_a_document_is_embedded_in_the_pieces_that_the_step_before_cuts() -> None:
    """60,000 tokens in pieces of 4,000 that share 300: 64,800 tokens in 17 calls."""
    cut = step("c", inputs=(named("chunk_size", 4000), named("chunkOverlap", 300), named("input", "{p}", "p")))
    f = chain(step("p", "parse"), cut, reading("e", "embed", named("input", "{c}", "c"), modality="embedding"))
    used = usage(f, "e", Rule(step="p", size=60_000.0))
    assert (used.total("input"), used.calls) == (64_800, 17)
    in_letters = structs.replace(
        cut, inputs=cut.inputs[2:], pieces=Pieces(size=4000, overlap=300, unit="letters", batch=None)
    )
    f = structs.replace(f, steps=(f.steps[0], in_letters, f.steps[2]))
    used = usage(f, "e", Rule(step="p", size=60_000.0))
    assert (used.total("input"), used.calls) == (64_800, 65)
    assert usage(f, "e", Rule(step="p", size=60_000.0), Rule(step="e", batch_size=10.0)).calls == 7


def test_sizes_pass_through_steps_that_shape_data() -> None:
    join = step("j", inputs=(named("a", "{r}", "r"), named("b", "{s}", "s")))
    steps = [step("r", "read"), step("s", "http"), join, step("k"), reading("m", "model", named("text", "{k}", "k"))]
    f = flow(steps, [link("start", "r"), link("r", "s"), link("s", "j"), link("j", "k"), link("k", "m")])
    rules = [Rule(step="r", size=1000.0), Rule(step="s", size=500.0)]
    assert usage(f, "m", *rules).total("input") == 1500
    # What a filter leaves of it nobody knows: the figure stands on a default.
    assert run_of(f, *rules).uses["m"].amounts[0].evidence == "default"
    # Two that shape each other's data hold nothing up.
    loop = structs.replace(
        f, links=(*f.links, link("k", "j")), steps=(*steps[:2], step("j", inputs=(named("a", "{k}", "k"),)), *steps[3:])
    )
    assert usage(loop, "m").total("input") == 150


ASKED = [
    ("Answer with one word.", 10.0),
    ("Answer yes or no: is it late?", 10.0),
    ("Sum it up in at most 50 words.", 75.0),
    ("Write at most two sentences for the board.", 60.0),
    ("Use no more than 200 characters", 60.0),
    ("Read the letter and answer kindly.", None),
    ("Say in one word what it is, then explain in up to 300 words.", None),
    ("There were two sentences in it.", None),
]


@pytest.mark.parametrize(("text", "limit"), ASKED)
def test_a_length_that_the_prompt_asks_for_bounds_a_default_answer(text: str, limit: float | None) -> None:
    asked = asked_length([Prompt(text=text)])
    assert (asked[0] if asked is not None else None) == limit
    used = usage(chain(ask("a", text)), "a")
    assert used.total("output") == min(250.0, limit or 250.0)
    # What somebody declares is not bounded by what the prompt asks for.
    assert usage(chain(ask("a", text)), "a", Rule(step="a", output=400.0)).total("output") == 400


def helper_flow() -> Flow:
    helper = ask("a", "Help.", kind="agent", max_turns=5)
    steps = [helper, step("t", "http"), step("u", "http"), step("m", "memory")]
    return flow(steps, [link("start", "a"), *[link(key, "a", "attach") for key in "tum"]])


def test_every_number_of_a_call_can_be_declared() -> None:
    f, certain = helper_flow(), Rule(step="a", turns=3.0, output=100.0)

    def tokens(*rules: Rule) -> float:
        return usage(f, "a", certain, *rules).total("input", "cached")

    base = tokens()
    # A call is read again in every later turn: twice in the third, once in the second.
    assert tokens(Rule(step="a", tool_call=90.0)) == pytest.approx(base + 50 * 3)
    assert tokens(Rule(step="a", tool_frame=50.0)) == pytest.approx(base + 3 * 2 * 20)
    assert tokens(Rule(step="m", messages=8.0)) == pytest.approx(base + 3 * 3 * 150)
    assert tokens(Rule(step="m", message_size=100.0)) == pytest.approx(base - 3 * 5 * 50)
    nothing_else = [
        Rule(step="m", size=0.0),
        Rule(step="a", tool_call=0.0),
        Rule(step="t", size=0.0),
        Rule(step="u", size=0.0),
    ]
    assert tokens(Rule(step="a", fixed_input=500.0), *nothing_else) == 1500
    assert tokens(Rule(step="a", input=700.0)) == 2100
    cached = usage(f, "a", certain, Rule(step="a", input=700.0), Rule(step="a", cached_input=0.25))
    assert (cached.total("cached"), cached.total("input")) == (525, 1575)
    both = usage(f, "a", certain, Rule(step="a", cached_input=0.25), Rule(step="a", cached=0.9))
    assert both.total("cached") == pytest.approx(0.25 * base)
    spoken = chain(reading("s", "model", named("text", "{start}", "start"), modality="speech"))
    assert usage(spoken, "s", Rule(step="s", letters_per_token=5.0)).total("characters") == 250 * 5


def test_the_shares_of_tools_are_declared_or_equal() -> None:
    f, certain = helper_flow(), Rule(step="a", turns=3.0)
    equal = run_of(f, certain).passes.of
    assert (equal["t"].runs, equal["u"].runs, equal["t"].evidence) == (1, 1, "default")
    some = run_of(f, certain, Rule(step="t", tool_share=0.8)).passes.of
    assert (some["t"].runs, some["u"].runs) == pytest.approx((1.6, 0.4))
    dear = usage(f, "a", certain, Rule(step="t", tool_share=1.0), Rule(step="t", size=1000.0), Rule(step="u", size=1.0))
    assert dear.total("input") > usage(f, "a", certain, Rule(step="t", size=500.0), Rule(step="u", size=500.0)).total(
        "input"
    )


def test_what_nobody_declares_stands_on_defaults() -> None:
    """Of an agent whose turns and answer are declared, the frames of its tools and their calls are defaults still."""
    run = run_of(
        helper_flow(), Rule(step="a", turns=3.0, output=100.0), Rule(step="t", size=10.0), Rule(step="u", size=10.0)
    )
    told = {amount.why.split(" ")[0]: amount.evidence for amount in run.uses["a"].amounts}
    assert told["frames"] == told["memory"] == told["tool"] == "default"


def test_sound_has_a_length_apart_from_the_duration_of_its_step() -> None:
    f = chain(reading("h", "model", modality="transcription"))
    assert usage(f, "h").total("second") == 60
    assert usage(f, "h", Rule(step="h", sound=90.0, seconds=4.0)).total("second") == 90
    guessed = usage(f, "h", Rule(step="h", seconds=4.0)).amounts[0]
    assert (guessed.quantity, guessed.evidence) == (4, "default") and "`sound` declares it" in guessed.why


def test_pages_of_a_declared_size() -> None:
    f = chain(step("p", "parse"), reading("m", "model", named("text", "{p}", "p")))
    assert usage(f, "m", Rule(step="p", pages=4.0)).total("input") == 2000
    assert usage(f, "m", Rule(step="p", pages=4.0, page_size=800.0)).total("input") == 3200
