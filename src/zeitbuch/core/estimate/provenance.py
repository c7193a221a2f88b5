# Where every number of a flow or a step comes from: the export, a file's rule, or a default.
"""`estimate --why`: each number with its source."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import timedelta
from typing import Any, Literal

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.assumptions.values import EVIDENCE, EVIDENCE_WORDS, Evidence, Value, weakest_evidence
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.graph.topology import model_of
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Ref, Step
from zeitbuch.core.model.secret_labels import count_secrets
from zeitbuch.core.model.sheet import Column, Sheet, money_text, number_text
from zeitbuch.core.pricing import token_count
from zeitbuch.core.pricing.rate_card import Price
from zeitbuch.core.pricing.units import UNITS

from .estate import EstateFigures, bill_runs
from .flow_figures import FlowFigures
from .knobs import find_knobs
from .records import Part, StepEstimate

COLUMNS = (
    Column("step", "step"), Column("what", "number"), Column("value", "value"), Column("evidence", "based on"),
    Column("source", "where it comes from"),
)  # fmt: skip


def _value_words(value: Value) -> str:
    text = number_text(value.amount)
    return f"{text} ({number_text(value.low)} to {number_text(value.high)})" if value.ranged else text


TOLD_ELSEWHERE = ("output", "size", "images", "video")  # quantities that stand beside what they are an amount of
NumberRow = tuple[str, str, str, Evidence | Literal[""], str]


def why_sheet(runs: EstateFigures, key: str, step: str = "") -> Sheet:
    """All numbers of a flow, or of one of its steps (id, number or name). Raises ZeitbuchError for an unknown step."""
    keys = runs.whole_flows()[key]
    run = runs.by[keys[0]]
    chosen = _chosen_step(run, step) if step else None
    rows: list[NumberRow] = []
    for one in keys:
        rows += _rows_of(runs, one, chosen)
    rows += _bill_rows(runs, keys) if chosen is None else []
    name = f"{run.flow.title} / {chosen.title}" if chosen is not None else run.flow.title
    cells = tuple((step, what, value, EVIDENCE_WORDS[by] if by else "", why) for step, what, value, by, why in rows)
    return Sheet(COLUMNS, cells, title=f"Where the numbers of {name} come from")


def _rows_of(runs: EstateFigures, key: str, chosen: Step | None) -> list[NumberRow]:
    """The numbers of a flow, of all its days or of some."""
    run = runs.by[key]
    rows: list[NumberRow] = []
    if run.part is not None:
        days = "; ".join(
            f"{span.first} to {span.after - timedelta(1)}" if span.days > 1 else f"{span.first}"
            for span in run.part.days.spans
        )
        rows.append(("", f"{run.part.days.words}:", "", "", f"what is declared holds on {days}"))
    rows += [] if chosen is not None else _volume_rows(runs.volumes[key])
    knobs = {knob.what: knob for knob in find_knobs(run, chosen is None)}
    for entry in run.steps:
        if chosen is None or entry.id == chosen.id:
            rows += _step_rows(runs, run, entry, knobs)
    for why in run.passes.inexact:
        rows.append(("", "not exact", "sampled", "", f"{why}: no sum gives the mean; sampled runs do"))
    return rows


def _bill_rows(runs: EstateFigures, keys: Sequence[str]) -> Iterator[NumberRow]:
    """How the parts above add up to the month's bill: models, each meter, and what belongs to no flow."""
    currency = runs.prices.card.currency if runs.prices.card else ""
    models, weakest = Money(), EVIDENCE[-1]
    for key in keys:
        run, volume = runs.by[key], runs.volumes[key]
        spent = money_words(run.cost, currency)
        when = f" {run.part.days.words}" if run.part is not None else ""
        yield "", f"models per run{when}", spent, "", "the sum of the costs above"
        if volume.runs is None:
            yield "", "bill of the month", "?", "default", volume.why
            return
        cost = run.cost.times(volume.runs)
        told = weakest_evidence(volume.evidence, *[evidence for evidence, amount in run.sums.by.items() if amount])
        words = f"{number_text(volume.runs)} runs x {spent}"
        yield "", f"models per month{when}", money_words(cost, currency), told, words
        models, weakest = models + cost, weakest_evidence(weakest, told)
    run, whole = runs.by[keys[0]], models
    lines, bills = bill_runs(runs)
    for line in (line for line in lines if line.flow_id == run.flow.id):
        whole += line.cost
        weakest = weakest_evidence(weakest, line.evidence) if line.cost.amount else weakest
        words = f"{line.host}: {number_text(line.quantity)} counted, at its part of the bill of all flows of that host"
        paid = f"{number_text(line.units)} units = {money_words(line.cost, currency)}"
        yield "", f"meter {line.meter} per month", paid, line.evidence, words
    yield "", "bill of the month", money_words(whole, currency), weakest, "models and meters"
    host = bills.host.get(runs.whole_key(keys[0]))
    if host and bills.fees.amount:
        words = f"the fee of '{host}' and of other hosts belongs to no flow"
        yield "", "fees of hosts, beside it", money_words(bills.fees, currency), "declared", words


def _volume_rows(volume: Volume) -> list[NumberRow]:
    runs = "?" if volume.runs is None else number_text(volume.runs)
    rows: list[NumberRow] = [("", "runs per month", runs, volume.evidence, volume.why)]
    if volume.checks:
        rows.append(("", "checks per month", number_text(volume.checks), "export", "counted from the schedule"))
    return rows


def _step_rows(
    runs: EstateFigures, run: FlowFigures, entry: StepEstimate, knobs: dict[str, Any]
) -> Iterator[NumberRow]:
    done = run.passes.of[entry.id]
    title = f"{entry.number} {entry.name}".strip()
    yield title, "passes per run", number_text(entry.passes), done.evidence, _passes_words(run, entry.id)
    yield from _knob_rows(entry, knobs, title)
    if entry.model:
        why = f"{entry.model}: passes x calls of one pass"
        yield title, "model calls per run", number_text(entry.calls), done.evidence, why
    if entry.parts:
        for row in _text_rows(runs, run, entry.id):
            yield title, *row
        for row in _price_rows(runs, run, entry.model, _units_paid(runs, run, entry)):
            yield title, *row
    for part in entry.parts:
        yield title, f"{UNITS[part.unit].phrase} per run", _part_words(runs, part), part.evidence, part.why


def _knob_rows(entry: StepEstimate, knobs: dict[str, Any], title: str) -> Iterator[NumberRow]:
    for what, knob in knobs.items():
        if what.endswith(f"‘{entry.name}’") and knob.quantity not in TOLD_ELSEWHERE:
            name = what if "share of" in what else what.split(" of ‘")[0]
            yield title, name, _value_words(knob.value), knob.value.evidence, knob.value.why


def _part_words(runs: EstateFigures, part: Part) -> str:
    """'120 = 0.0004 EUR'."""
    if part.cost is None:
        return f"{number_text(part.quantity)} = no price"
    currency = runs.prices.card.currency if runs.prices.card else ""
    return f"{number_text(part.quantity)} = {money_text(part.cost)} {currency}".rstrip()


def _text_rows(
    runs: EstateFigures, run: FlowFigures, step_id: str
) -> list[tuple[str, str, Evidence | Literal[""], str]]:
    """The instruction text of a step, counted with its range; nothing for a step without text of its own."""
    use = model_of(run.graph, run.graph.steps[step_id])
    if use is None or use.modality == "speech":
        return []
    text = "\n".join(readable_rest(prompt.text, prompt.refs) for prompt in use.prompts)
    if not text.strip():
        return []
    card = runs.prices.card
    rate = card.rate_of(use.name) if card is not None and use.name else None
    if rate is not None and rate.tokenizer in runs.prices.counters:
        count = count_secrets(runs.prices.token_counter(use.name or ""), run.flow.secrets)(text)
        return [("instruction text", f"{number_text(count)} tokens", "export", f"counted with {rate.tokenizer}")]
    found = token_count.measure_tokens(text, rate.family if rate is not None else "")
    hidden = count_secrets(token_count.count_tokens, run.flow.secrets)(text) - token_count.count_tokens(text)
    found = token_count.Count(found.amount + hidden, found.low + hidden, found.high + hidden)
    whose = f"tokenizers of family {rate.family}" if rate is not None and rate.family else "any tokenizer"
    words = f"estimated offline; for {whose} nine texts in ten lie within the range"
    return [
        (
            "instruction text",
            f"{number_text(found.amount)} tokens ({number_text(found.low)} to {number_text(found.high)})",
            "export",
            words,
        )
    ]


def readable_rest(text: str, refs: Iterable[Ref]) -> str:
    """A prompt without its placeholders."""
    for ref in refs:
        text = text.replace(ref.text, " ") if ref.text else text
    return text


def _price_rows(
    runs: EstateFigures, run: FlowFigures, model: str, units: set[str]
) -> list[tuple[str, str, Evidence | Literal[""], str]]:
    """The prices of a model that its step pays, with the date from which they hold and, where they change within the month, the
    share of the runs that pays them."""
    card = runs.prices.card
    rate = card.rate_of(model) if card is not None else None
    paid = _prices_paid(runs, run, model) if card is not None else []
    if card is None or not paid or rate is None:
        return [(f"price of {model or 'the model'}", "?", "", "the rate card has none for this month")]
    rows: list[tuple[str, str, Evidence | Literal[""], str]] = []
    for unit, row in UNITS.items():
        for price, share in paid:
            value = getattr(price, unit)
            if value is not None and unit in units:
                per = f"{row.size:,} {row.title}" if row.size > 1 else row.title
                words = f"rate card: per {per}, from {price.since}"
                words += f", for {share:.0%} of the runs" if len(paid) > 1 else ""
                rows.append((f"price of {row.title}", f"{value} {rate.currency or card.currency}", "declared", words))
    return rows


def _units_paid(runs: EstateFigures, run: FlowFigures, entry: StepEstimate) -> set[str]:
    """The units of a step's parts, and those that they are billed by in their place."""
    use = run.uses.get(entry.id)
    others = [runs.prices.billed_by(use.model, amount) for amount in use.amounts] if use is not None else []
    return {part.unit for part in entry.parts} | {other.unit for other in others if other is not None}


def _prices_paid(runs: EstateFigures, run: FlowFigures, model: str) -> list[tuple[Price, float]]:
    """The prices of the month's days, each once, with the share of the flow's runs that pays it."""
    card, found = runs.prices.card, dict[Price, float]()
    weights = run.weights or runs.prices.weights
    for span, weight in zip(runs.prices.calendar.spans, weights, strict=True):
        price = card.price_of(model, span.first) if card is not None and weight else None
        if price is not None:
            found[price] = found.get(price, 0.0) + weight
    return list(found.items())


def _chosen_step(run: FlowFigures, step: str) -> Step:
    low = step.casefold()
    for s in run.flow.steps:
        if step in (s.id, run.graph.numbers.get(s.id)) or s.title.casefold() == low:
            return s
    names = ", ".join(f"'{step.title}'" for step in run.flow.steps if step.kind != "note")
    raise fail(
        "step-unknown",
        f"expected the id, number or name of a step of '{run.flow.title}', found '{step}'",
        f"its steps are {names}",
    )


def _passes_words(run: FlowFigures, step_id: str) -> str:
    done = run.passes.of[step_id]
    words = f"reached {number_text(done.arrivals)} times"
    if done.runs > done.arrivals + 1e-9:
        words += f", {number_text(done.runs - done.arrivals)} repetitions after failures or for items"
    return words
