"""What feeds a call: inputs as well as prompts, sizes through steps that shape data, pieces, lengths that prompts ask for, and every number declared."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

import numpy as np
import pytest
from msgspec import structs

from builders import ask, chain, flow, link, step
from test_estimate import CARD
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.assumptions.values import Range
from zeitbuch.core.assumptions.worlds import Worlds
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run
from zeitbuch.core.model.records import Binding, Flow, ModelUse, Pieces, Prompt, Ref, Repeat
from zeitbuch.core.pricing.asked_answers import asked_length
from zeitbuch.core.pricing.call_content import Usage
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard

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


def cutting(size: int, overlap: int | None = None, **more: Any) -> Any:
    return step(
        "c", inputs=(named("input", "{p}", "p"),), pieces=Pieces(size=size, overlap=overlap, unit="tokens"), **more
    )


def test_a_step_that_cuts_a_text_makes_as_many_items_as_there_are_pieces() -> None:
    """60,000 tokens in pieces of 1,000 that share 75: 65 pieces, each with its part of 64,800 tokens, summed up one by one."""
    f = chain(step("p", "parse"), cutting(1000, 75, yields="many"), ask_about("a", "c"))
    run = run_of(f, Rule(step="p", size=60_000.0), Rule(step="a", output=50.0))
    assert run.passes.of["a"].runs == 65
    assert run.sums.input_tokens == pytest.approx(64_800) and run.sums.output_tokens == 65 * 50
    (item,) = [value for key, value in run.lookup.counted.items() if key == "c"]
    assert "60,000 from ‘P’" in item.why and item.evidence == "declared"
    # Declared items come first; a short text is one piece, and only as long as it is.
    assert run_of(f, Rule(step="p", size=60_000.0), Rule(step="c", items=4.0)).passes.of["a"].runs == 4
    short = run_of(f, Rule(step="p", size=300.0))
    assert (short.passes.of["a"].runs, short.sums.input_tokens) == (1, 300)


def test_a_document_is_cut_by_what_is_in_it_and_found_pieces_are_not_cut() -> None:
    """What leads to a reader of documents is a file's name: its own pages count. A search hands pieces on, and cuts nothing."""
    cut = step("c", "parse", yields="many", pieces=Pieces(size=1000, unit="tokens"))
    f = chain(step("p", "read"), cut, ask_about("a", "c"))
    run = run_of(f, Rule(step="c", pages=40.0), Rule(step="c", page_size=500.0))
    assert run.passes.of["a"].runs == 20 and run.sums.input_tokens == pytest.approx(20_000)
    assert run_of(f).lookup.counted["c"].evidence == "default"
    search = step("c", "retrieve", yields="many", pieces=Pieces(size=1000, unit="tokens", count=4))
    assert run_of(chain(step("p", "read"), search, ask_about("a", "c"))).lookup.counted == {}


def test_pieces_of_so_many_letters_are_in_doubt_in_every_world() -> None:
    worlds = Worlds(4000)
    letters = structs.replace(cutting(4000, 400, yields="many"), pieces=Pieces(size=4000, overlap=400, unit="letters"))
    f = chain(step("p", "parse"), letters, ask_about("a", "c"))
    rules = Assumptions(assume=(Rule(step="p", size=Range(10_000, 60_000, 90_000)),))
    found = one_run(f, rules, Prices(CARD, MONTH), MONTH, worlds=worlds).lookup.counted["c"]
    # Three to five letters a token: pieces of 800 to 1,333 tokens, of 56,667 on average.
    assert 48 < draws_of(found.amount).min() < 52 and 76 < draws_of(found.amount).max() < 82
    assert float(found.amount) == pytest.approx((56_667 - 100) / 900 + 0.5, rel=0.01)


def test_a_text_that_varies_is_cut_into_pieces_that_vary() -> None:
    f = chain(step("p", "parse"), cutting(1000, yields="many"), ask_about("a", "c"))
    ranged = Rule(step="p", size=Range(low=500, likely=2000, high=6000))
    low, high, mean = 1, 6, run_of(f, ranged).passes.of["a"].runs
    # Half a piece more than the text alone says, since the last is seldom full.
    assert low < mean < high and mean == pytest.approx((500 + 4 * 2000 + 6000) / 6 / 1000 + 0.5, abs=0.05)
    by_default = run_of(f).lookup.counted["c"]
    assert by_default.evidence == "default" and by_default.amount > 1


@pytest.mark.parametrize(
    ("repeat", "rounds"),
    [
        (Repeat(items="{c}", refs=(Ref(step="c", text="{c}"),)), 60), (Repeat(items="{c}", count=7, refs=(Ref(step="c"),)), 7),
        (Repeat(items="{x}", refs=(Ref(step="p"),)), 10), (Repeat(), 10),
    ],
)  # fmt: skip
def test_a_loop_over_pieces_goes_over_all_of_them(repeat: Repeat, rounds: float) -> None:
    inner = structs.replace(ask("a"), scope="l")
    f = chain(step("p", "parse"), cutting(1000), step("l", "loop", repeat=repeat))
    f = structs.replace(f, steps=(*f.steps, inner))
    assert run_of(f, Rule(step="p", size=60_000.0)).passes.of["a"].runs == rounds


def ask_about(key: str, source: str) -> Any:
    use = ModelUse(name="fulmar-mini-2", prompts=(Prompt(text="{x}", refs=(Ref(step=source, text="{x}"),)),))
    return step(key, "model", model=use, per_item=True)


def rate(name: str, image_tokens: float | None = None, **prices: float) -> ModelRate:
    price = Price(date(2026, 1, 1), **{unit: Decimal(each) for unit, each in prices.items()})
    return ModelRate(name, image_tokens=image_tokens, price=(price,))


RATES = RateCard(
    "EUR",
    model=(
        rate("plain", input=1000, output=2000),
        rate("own", 300.0, input=1000, output=2000),
        rate("by image", image=5, input=1000),
    ),
)


def seen(model: str, *rules: Rule, modality: str = "vision", worlds: Worlds | None = None) -> FlowFigures:
    use = ModelUse(name=model, modality=modality, prompts=(Prompt(text="{x}", refs=(Ref(step="p", text="{x}"),)),))  # type: ignore[arg-type]
    f = chain(step("p", "parse"), step("m", "model", model=use))
    rules = (Rule(step="p", size=0.0), Rule(step="m", output=0.0), Rule(step="m", images=2.0), *rules)
    return one_run(f, Assumptions(assume=rules), Prices(RATES, MONTH), MONTH, worlds=worlds)


@pytest.mark.parametrize(
    ("model", "rules", "cost", "evidence"),
    [
        ("plain", (), 1.6, "default"),  # 2 images of 800 tokens, at 1000 a million
        ("plain", (Rule(step="m", image_tokens=100.0),), 0.2, "declared"),
        ("own", (), 0.6, "declared"), ("own", (Rule(step="m", image_tokens=100.0),), 0.2, "declared"),
        ("by image", (Rule(step="m", image_tokens=100.0),), 10, "declared"),
        ("plain", (Rule(step="m", input=700.0),), 0.7, "declared"),  # all tokens in: the images are among them
    ],
)  # fmt: skip
def test_images_are_billed_by_image_or_as_tokens(
    model: str, rules: tuple[Rule, ...], cost: float, evidence: str
) -> None:
    run = seen(model, *rules)
    assert float(run.cost.amount) == pytest.approx(cost) and run.cost.unknown == ()
    assert {part.evidence for part in run.steps[1].parts if part.cost} == {evidence}
    assert {name for name, amount in run.sums.by.items() if amount} == {evidence}


def test_made_images_are_billed_as_tokens_out() -> None:
    assert float(seen("plain", modality="image").cost.amount) == pytest.approx(3.2)


def test_how_many_tokens_an_image_is_and_how_fast_one_speaks_are_in_doubt() -> None:
    worlds = Worlds(400)
    spent = draws_of(seen("plain", worlds=worlds).sums.spent)
    assert spent.mean() == pytest.approx(1.6, rel=0.01) and 0.8 <= spent.min() < 1 and 2.2 < spent.max() <= 3.2
    assert float(np.ptp(draws_of(seen("own", worlds=worlds).sums.spent))) == 0
    text = "The ferry is late. " * 20
    use = ModelUse(name="voice", modality="speech", prompts=(Prompt(text=text),))
    spoken = chain(step("m", "model", model=use))
    card = RateCard("EUR", model=(rate("voice", second=1),))
    run = one_run(spoken, Assumptions(), Prices(card, MONTH), MONTH, worlds=worlds)
    seconds = draws_of(run.sums.spent)
    assert float(run.sums.spent) == pytest.approx(len(text.strip()) / 15)
    assert len(text) / 19 <= seconds.min() < seconds.max() <= len(text) / 11
    assert run.steps[0].parts[0].evidence == "default" and "15 letters a second" in run.steps[0].parts[0].why
