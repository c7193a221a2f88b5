# ruff: noqa: E501  (sentences are easier to compare in one line)
"""The first sheet: held against sheets written by hand, against the stories of `explain`, and against what an export does not say."""

from __future__ import annotations

import sys
from pathlib import Path

import msgspec
import pytest

from conftest import Run
from test_checks import flow, given, step, takes
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Approval, Flow, Link, Ref, Repeat, Trigger, Variable
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.blocks import Bullets, Heading, Outline, Paragraph
from zeitbuch.core.report.first_sheet.failing import failing_lines
from zeitbuch.core.report.first_sheet.sheet import SheetFacts, first_sheet
from zeitbuch.core.report.first_sheet.telling import course_lines
from zeitbuch.core.report.sentences import failing_words

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
from clean_flows import clean_estate, pay_desk

HAND = Path(__file__).parent.parent / "docs" / "worked" / "sheets"
# What the sheets written by hand say, and the words in which the generated one says it.
SAID = {
    "Customer letters": [
        "Hands letters to the agent that knows the matter.", "Every 15 minutes.", "2,880 runs in 2026-11", "‘Fetch new letters’ reads from ‘Office mail’",
        "asks fulmar-mini-2, which is to answer ‘refund’, ‘complaint’ or ‘other’", "is an agent on fulmar-large-2, may use ‘Look up a booking’ and ‘Pay a refund’, at most 6 turns",
        "may use ‘Read the voyage log’, at most 5 turns", "other: on to 2.5 ‘Keep the draft’", "‘Keep the draft’ writes to ‘Office mail’",
        "which way ‘Desk’ goes (by what ‘Whose matter is it?’ answers)", "the booking number of ‘Look up a booking’", "the amount to pay back of ‘Pay a refund’",
        "the name of the ship and the day of the voyage", "A model words what ‘Refund agent’ and ‘Complaint agent’ give.", "Limit of ‘Pay a refund’ is fixed: 200.", "Nobody approves anything.",
        "Spend money: ‘Pay a refund’ through ‘Bank’.", "Write: ‘Office mail’.", "Read: ‘Office mail’, ‘Bookings’ and ‘Voyage log’.", "Any other failure ends its branch, and nobody is told.",
        "20.52 EUR in 2026-11: low 17.1, likely 20.3, high 24.2", "98 % default",
    ],
    "Invoice intake": [
        "Reads suppliers' invoices, sorts them by amount and books them.", "When the event ‘invoice received’ happens.", "140 runs in 2026-11 (assumptions", "‘Extract the fields’ asks fulmar-mini-2",
        "goes by net of ‘Extract the fields’ > 2000", "asks Maren Dahl, who has 2 days", "no answer within 2 days:", "when it fails or not done in time: on to 9 ‘Tell accounting’", "‘Check the supplier’ reads from ‘suppliers’", "‘Book it’ writes to ‘ledger’", "‘Choose the account’ asks fulmar-large-2",
        "‘Book the line’ writes to ‘ledger lines’", "Maren Dahl decides at ‘Ask the head of office’.", "to office@halvorsund.example and ‘Tell accounting’ to accounting@halvorsund.example",
        "Write: ‘ledger’ and ‘ledger lines’.", "When ‘Read the invoice’ fails: the run goes on at 9 ‘Tell accounting’.", "it is tried again up to 2 times",
        "When Maren Dahl does not answer ‘Ask the head of office’ within 2 days: ‘Remind’ sends to office@halvorsund.example, and the run goes on at ‘Book it’.",
        "Any other failure ends its branch, and nobody is told.", "2.09 EUR in 2026-11",
    ],
    "Rescue call": [
        "Alerts the coast and the duty officer when a ship reports a person overboard.", "When a web request comes in (‘Alarm from the bridge’); the caller shows who it is: signed with the ship's key.",
        "6 runs in 2026-11 (assumptions", "‘Read the alarm’ reads a document", "asks fulmar-mini-2, which is to answer ‘life’, ‘drill’ or ‘unclear’", "life: on to 7 ‘Alert or telephone’",
        "‘Alert everybody’ runs its ways side by side", "‘Tell the coast’ sends to coast@halvorsund.example", "‘Wake the duty officer’ sends to duty@halvorsund.example", "‘Wait for news’ waits for 15 minutes",
        "‘Write the report’ calls the flow ‘Rescue report’", "drill: on to 5 ‘Note it’", "‘Note it’ writes to ‘Bridge log’; there this way ends", "‘Is it real?’ asks Ivar Lunde, who has 5 minutes",
        "real: on to 7 ‘Alert or telephone’", "not real: on to 5 ‘Note it’", "no answer within 5 minutes:", "A model decides which way ‘Urgency’ goes (by what ‘How urgent?’ answers).", "Ivar Lunde decides at ‘Is it real?’.",
        "‘Tell the harbour master’ to harbour-master@halvorsund.example", "‘Have the switchboard telephone’ to switchboard@halvorsund.example", "Write: ‘Bridge log’.", "It calls ‘Rescue report’.",
        "When Ivar Lunde does not answer ‘Is it real?’ within 5 minutes: ‘Tell the harbour master’ sends to harbour-master@halvorsund.example, and the run goes on at ‘Alert or telephone’.",
        "it is tried again up to 2 times, 30 seconds apart, and then ‘Alert or telephone’ around it takes the fault, and the run goes on at 8 ‘Have the switchboard telephone’.", "When ‘Alert or telephone’ fails: the run goes on at 8 ‘Have the switchboard telephone’.",
        "Any other failure ends its branch, and nobody is told.",
    ],
}  # fmt: skip


def told(one: Flow) -> str:
    lines: list[str] = []
    for block in first_sheet(Graph(one), SheetFacts()):
        if isinstance(block, Heading | Paragraph):
            lines.append(block.text)
        elif isinstance(block, Bullets):
            lines += block.items
        elif isinstance(block, Outline):
            lines += [text for _, text in block.lines]
    return "\n".join(lines)


@pytest.mark.parametrize("name", SAID)
def test_what_the_hand_said_is_said(name: str, demo: Path, run: Run) -> None:
    assert (HAND / f"{name.lower().replace(' ', '-')}.md").is_file()
    own = [str(HAND / "rescue-call.yaml")] if name == "Rescue call" else []
    (demo / "assumptions.toml").write_text(
        (demo / "assumptions.toml").read_text() + '\n[[assume]]\nflow = "Rescue call"\nruns = 6\n' * bool(own)
    )
    assert run("document", *own, "--flow", name, "-o", "docs", "--format", "markdown", cwd=demo).code == 0
    text = (
        demo / "docs" / ("letters.md" if name == "Customer letters" else f"{name.lower().replace(' ', '-')}.md")
    ).read_text()
    sheet = text[: text.index("## Map")].replace("\\*", "*").replace("\\>", ">").replace("\\_", "_")
    for sentence in SAID[name]:
        assert sentence in sheet, sentence


@pytest.mark.parametrize("seed", range(30))
def test_failures_are_those_of_explain(seed: int) -> None:
    for one in msgspec.convert([*[made.flow for made in clean_estate(seed)], pay_desk()], list[Flow]):
        graph = Graph(one)
        text = "\n".join(failing_lines(graph, steps_that_may_run(graph))).casefold()
        for part in graph.in_order():
            words = failing_words(graph, part).removeprefix("It fails").lstrip(":. ").casefold()
            if (
                part.kind not in ("note", "approve")
                and part.id not in graph.host
                and "the branch ends there" not in words
            ):
                assert words in text, (part.id, words)
        numbered = [text for _, text in course_lines(graph)]
        for part in graph.flow.steps:
            if part.kind != "note" and part.id not in graph.host:
                assert any(graph.numbers[part.id] in line and part.title in line for line in numbered), part.id


def test_what_the_export_does_not_say_is_a_gap() -> None:
    bare = told(flow(step("a"), owners=(), description="", triggers=()))
    assert bare.count("To be filled in: ") == 4 and "Whether it is in use the export does not say." in bare
    assert "Nobody approves anything." not in bare and "Everything follows from data and fixed values." in bare


def test_no_more_is_said_than_is_known() -> None:
    unknown = told(flow(step("a", "other")))
    assert (
        "whether ‘A’ does is not known, for no rule classifies it." in unknown and "Everything follows" not in unknown
    )
    picks = (given("to", "", decided="model"),)
    alone = told(flow(step("m", "model"), step("s", "send", effect="send", inputs=picks)))
    asked = told(flow(step("m", "model"), step("p", "approve"), step("s", "send", effect="send", inputs=picks)))
    assert "A model alone decides" in alone and "A model decides" in asked and "alone" not in asked
    assert "Nothing in it can fail." not in told(flow())


def test_ways_and_values() -> None:
    phone = step(
        "s",
        "send",
        effect="send",
        inputs=(given("number", "{till}", decided="data", refs=(Ref(variable="till", text="{till}"),)),),
    )
    one = flow(
        step("d", "decide"), phone, step("e", "end", ends="run"), step("l", "loop", repeat=Repeat(items="{t.rows}", cap=9, refs=(Ref(step="t", path="rows", text="{t.rows}"),))), step("w", "write", effect="write", scope="l", inputs=(takes("l"),)),
        variables=(Variable(name="till", value="CHANGE_ME"),), triggers=(Trigger(id="t", kind="form", name="Refund form"),),
        links=(Link(source="t", target="d"), Link(source="d", target="s", role="case", label="late"), Link(source="d", target="e", role="case", label="gone"), Link(source="s", target="l")),
    )  # fmt: skip
    text = told(one)
    assert (
        "When a form is sent (‘Refund form’)." in text
        and "sends to till (CHANGE_ME)" in text
        and "anything else: no way leads on" in text
    )
    assert "goes over rows of ‘Refund form’ (at most 9); for each:" in text and "‘E’ ends the whole run" in text
    asks = flow(
        step("o", "approve", timeout=7200.0, approval=Approval(approvers=("Maren Dahl",), silence="rejects")),
        step("p", effect="spend"),
    )
    assert "When Maren Dahl does not answer ‘O’ within 2 hours: it is taken as a no." in told(
        asks
    ) and "Maren Dahl decides at ‘O’." in told(asks)


def test_callers_are_named(demo: Path, run: Run) -> None:
    run("document", "-o", "docs", "--format", "markdown", cwd=demo)
    text = (demo / "docs" / "sh-1052.md").read_text()
    assert "It is called by ‘Weather warnings’." in text and "It calls" not in text
    # What another flow hears of is not told to nobody.
    assert (
        "Any other failure ends its branch." in text
        and "When a run fails ‘Fault logger’ is started." in text
        and "nobody is told" not in text[: text.index("## What it costs")]
    )
    assert "the what" not in (demo / "docs" / "sh-1090.md").read_text()


def test_what_stands_behind_the_sheet(tmp_path: Path, run: Run) -> None:
    """Cases with everything else, variables with their use, what was not understood with who judges it, places, and since when the book has it."""
    (tmp_path / "a.yaml").write_text(
        """
zeitbuch: 1
flows:
  - id: desk
    name: Desk
    owners: [Maren Dahl]
    unread: {alarm: 5}
    variables: [{name: till, value: 7, description: where it is paid}, {name: idle, value: 1}]
    triggers: [{id: t, kind: manual}]
    steps:
      - {id: d, kind: decide, name: Which, unread: {hue: red}}
      - {id: s, kind: send, effect: send, name: Tell, inputs: [{name: to, value: "{till}", decided: data, refs: [{variable: till, text: "{till}"}]}]}
    links: [{source: t, target: d}, {source: d, target: s, role: case, label: late}]
"""
    )
    assert run("record", "a.yaml").code == 0
    assert run("document", "a.yaml", "-o", "docs", "--format", "markdown").code == 0
    text = (tmp_path / "docs" / "desk.md").read_text()
    for said in (
        "in the book as version 1 since 20", "| anything else |  | no way leads on |", "| till | 7 | where it is paid | 2 ‘Tell’ |",
        "| idle | 1 |  | no step, as far as the export says |", "matters is for Maren Dahl to judge", "- Of the flow: alarm.", "- Of 1 ‘Which’: hue.",
        "| 1 ‘Which’ | ",
    ):  # fmt: skip
        assert said in text, said
    assert "anything else: no way leads on" in run("explain", "Desk", "--source", "a.yaml").out
    (tmp_path / "a.yaml").write_text((tmp_path / "a.yaml").read_text().replace("name: Tell", "name: Call"))
    assert run("document", "a.yaml", "-o", "docs", "--format", "markdown").code == 0
    assert "in the book" not in (tmp_path / "docs" / "desk.md").read_text().splitlines()[2]
