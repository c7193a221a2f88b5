"""`estimate --assume FILE` and `init`: what is left to declare, written to be filled in, and written again without losing a word."""

from __future__ import annotations

import re
import tomllib
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from builders import ask, chain, flow, link, step
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.estimate.estate import runs_of
from zeitbuch.core.estimate.open_entries import find_open_entries
from zeitbuch.core.model.records import Estate, Trigger
from zeitbuch.core.pricing.rate_card import Belongs, Host, Meter, MeterPrice, ModelRate, Price, RateCard
from zeitbuch.writers.exchange.open_entries import MARK, entry_text, grown_text


def entries_in(text: str) -> list[str]:
    """The entries of a file, comment signs taken away, with what stands above each."""
    return [block for block in text.split("\n\n") if "[[assume]]" in block and "moves the" in block]


def filled(text: str, name: str, value: float) -> str:
    """The file with one entry filled in as a person would."""
    block = next(block for block in entries_in(text) if block.startswith("# moves") and name in block)
    lines = [line.removeprefix("# ") if not line.startswith("# moves") else line for line in block.splitlines()]
    lines[-1] = f"{lines[-1].split(' = ')[0]} = {value}   # counted by hand"
    return text.replace(block, "\n".join(lines))


def test_a_file_is_begun_filled_in_and_goes_on(demo: Path, run: Any) -> None:
    code, out, err = run("estimate", "--assume", "new.toml", cwd=demo)
    assert (code, out) == (0, "") and re.search(r"new.toml: \d\d entries added; fill in what you know", err)
    text = (demo / "new.toml").read_text()
    assert tomllib.loads(text) == {"assumptions": 1}  # it changes nothing yet
    moves = [
        float(found.replace(",", ""))
        for found in re.findall(r"^# moves the month by ([\d.,]+) EUR", text, re.MULTILINE)
    ]
    assert moves == sorted(moves, reverse=True) and len(moves) > 30
    for said in (
        "turns of ‘Handbook assistant’",
        "share of ‘refund’ at ‘Desk’",
        "default: 1 to 8 turns",
        "between 2.25 and 6",
    ):
        assert said in text
    # Filled in and used, the entry counts; written again, every word of it stays, and it is not asked for again.
    changed = filled(text, "turns of ‘Handbook assistant’", 2.0)
    own = (demo / "assumptions.toml").read_text()
    (demo / "assumptions.toml").write_text(own + changed.replace("assumptions = 1\n", ""))
    rows = run("estimate", "--why", "Safety handbook assistant", "-f", "csv", cwd=demo)[1]
    assert "turns,2,declared" in rows
    before = (demo / "assumptions.toml").read_text()
    code, _, err = run("estimate", "--assume", "assumptions.toml", cwd=demo)
    assert code == 0 and "0 entries added" in err
    assert (demo / "assumptions.toml").read_text() == before


def test_entries_that_fit_nothing_any_more_are_marked_once(demo: Path, run: Any) -> None:
    own = demo / "assumptions.toml"
    own.write_text(
        own.read_text()
        + '\n# a note of ours\n[[assume]]\nflow = "Customer letters"\nstep = "Refund agant"\nturns = 3\n'
    )
    for _ in range(2):
        code, _, err = run("estimate", "--assume", "assumptions.toml", cwd=demo)
        assert code == 0 and "1 entry marked that fit" in err
    text = own.read_text()
    assert (
        text.count(MARK) == 1
        and f"{MARK}expected a step that 'Refund agant' fits in 'Customer letters', found none\n[[assume]]" in text
    )
    own.write_text(text.replace("Refund agant", "Refund agent"))
    run("estimate", "--assume", "assumptions.toml", cwd=demo)
    assert MARK not in own.read_text() and "# a note of ours" in own.read_text()


def test_a_file_that_is_no_assumptions_is_left_alone(demo: Path, run: Any) -> None:
    (demo / "other.toml").write_text("[[assume]]\nfailure = 7\n")
    code, _, err = run("estimate", "--assume", "other.toml", cwd=demo)
    assert code == 2 and "from 0 to 1, found 7" in err
    assert (demo / "other.toml").read_text() == "[[assume]]\nfailure = 7\n"


def test_volumes_that_nobody_knows_come_first() -> None:
    known = chain(step("a"), id="known", name="Known")
    steps = [step("d", "decide"), step("b"), step("c")]
    links = [link("start", "d"), link("d", "b", "case", "one"), link("d", "c", "case", "two")]
    form = Trigger(id="start", kind="form", name="Form")
    asked = flow(steps, links, id="asked", name='Asked "so"', triggers=(form,))
    assumed = Assumptions(month="2026-02", assume=(Rule(flow="known", trigger="start", runs=10.0),))
    found = find_open_entries(runs_of(Estate((known, asked)), None, assumed), assumed)
    assert [(entry.quantity, entry.value) for entry in found] == [("runs", None), ("share", 0.5)]
    assert dict(found[0].where) == {"flow": 'Asked "so"', "trigger": "Form"}
    # What was written is read as the entry it stands for, whatever its names hold.
    text, added = grown_text("assumptions = 1\n", found, {}, "EUR")
    assert added == 2 and grown_text(text, found, {}, "EUR") == (text, 0)
    without_signs = "\n".join(line[2:] for line in entry_text(found[1], "EUR").splitlines()[1:])
    assert tomllib.loads(without_signs)["assume"] == [{"flow": 'Asked "so"', "step": "D", "case": "one", "share": 0.5}]


@pytest.mark.parametrize("source", [(), ("november",)])
def test_init_writes_what_is_left_to_declare(source: tuple[str, ...], demo: Path, run: Any) -> None:
    code, _, err = run("init", *source, "--into", "fresh", cwd=demo)
    assert code == 0, err
    text = (demo / "fresh" / "assumptions.toml").read_text()
    assert tomllib.loads(text) == {"assumptions": 1}
    assert ("# nobody knows: no volume declared for the" in text) == bool(source)


@pytest.mark.parametrize("text", ["assumptions = 1", "assumptions = 1\r\n# ours\r\n", 'assumptions = 1\n# a\u2028b\x0bc\n[[season]]\nnote = """x\n\n y"""\n'])  # fmt: skip
def test_every_byte_of_a_file_stays(text: str) -> None:
    assert grown_text(text, [], {}, "EUR") == (text, 0)
    known = chain(step("l", "loop"), id="f", name="F")
    assumed = Assumptions(month="2026-02", assume=(Rule(flow="f", trigger="start", runs=10.0),))
    found = find_open_entries(runs_of(Estate((known,)), None, assumed), assumed)
    grown, added = grown_text(text, found, {}, "EUR")
    assert added == 1 and grown.startswith(text) and ("\r\n" in text) == ("\r\n" in grown)
    assert grown_text(grown, found, {}, "EUR") == (grown, 0)


def test_what_a_meter_counts_moves_the_bill_too() -> None:
    """Two loops of ten: the items of one ask a model, those of the other take steps that a meter counts; past its allowance these move more."""
    inner = [ask("a", "", "m"), step("h", "http"), step("g", "http")]
    steps = [step("asked", "loop"), structs.replace(inner[0], scope="asked"), step("done", "loop")]
    steps += [structs.replace(one, scope="done") for one in inner[1:]]
    f = flow(steps, [link("start", "asked"), link("asked", "done"), link("h", "g")])
    rules = (Rule(trigger="start", runs=100.0), Rule(step="a", output=100.0), Rule(step="a", input=0.0))
    price = ModelRate("m", price=(Price(date(2026, 1, 1), input=Decimal(1), output=Decimal(100)),))

    def order(included: int) -> list[tuple[str, float]]:
        terms = MeterPrice(since=date(2026, 1, 1), each=Decimal("0.01"), included=Decimal(included))
        host = Host("H", ("steps",), flows=(Belongs(),))
        card = RateCard(
            "EUR", model=(price,), meter=(Meter("steps", "step", kinds=("http",), price=(terms,)),), host=(host,)
        )
        assumed = Assumptions(assume=rules)
        runs = runs_of(Estate((f,)), card, assumed, "2026-11")
        return [(e.told, round(e.moves, 6)) for e in find_open_entries(runs, assumed) if e.quantity == "items"]

    # From 5 to 20 items: 15 x 100 answers of 100 tokens; 15 x 100 x 2 steps at 0.01 each.
    assert order(0) == [("items of ‘Done’", 30.0), ("items of ‘Asked’", 15.0)]
    assert order(1_000_000) == [("items of ‘Asked’", 15.0), ("items of ‘Done’", 0.0)]
