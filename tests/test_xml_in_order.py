"""XML whose elements are called what they do: read in the order in which they stand, and proposed."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.element_sequences import sequences_of
from zeitbuch.readers.infer.propose import Proposal, propose_from_documents
from zeitbuch.readers.input.decode import decode_document
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.plain_xml import plain_document
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader


def root_of(text: str) -> Any:
    return decode_document("x.xml", text.encode(), Limits())[0]


def test_elements_in_a_sequence_keep_their_order() -> None:
    root = root_of(
        '<plan id="f"><acts kept="yes">now<look to="a"/><ask>Why?</ask><look/></acts><rest><a/><b/></rest></plan>'
    )
    assert plain_document(root, {"acts"}) == {
        "plan": {
            "id": "f",
            "acts": [{
                "kept": "yes",
                "@each": [{"@name": "look", "to": "a"}, {"@name": "ask", "@text": "Why?"}, {"@name": "look"}],
                "@text": "now",
            }],
            "rest": [{"a": "", "b": ""}],
        }
    }  # fmt: skip
    assert plain_document(root)["plan"]["acts"] == [
        {"kept": "yes", "look": [{"to": "a"}, ""], "ask": "Why?", "@text": "now"}
    ]


DIALECT = """
dialect = 1
name = "{0}"
signature = {{ all = ["$.{0}"], sequences = ["acts", "then", "else"] }}
flow = {{ at = "$.{0}" }}
step = {{ at = "$.acts[*]['@each'][*]", operation = "@name", id = "id", settings = "." }}
tree = {{}}
holds = [
  {{ at = "then", role = "case", steps = "@each", named = "then" }}, {{ at = "else", role = "case", steps = "@each", named = "else" }},
]
kind = [{{ operation = "look", kind = "read" }}, {{ operation = "fork", kind = "decide", condition = "test" }}]
"""
PLAIN = 'dialect = 1\nname = "plain"\nsignature = { all = ["$.plain"] }\nflow = { at = "$.plain" }\nstep = { at = "$.look[*]", operation = "does" }\n'
FORK = '<fork id="b" test="x"><then><look id="c"/></then><else><look id="d"/><look id="e"/></else></fork>'


def test_each_dialect_sees_xml_as_it_says() -> None:
    exports = [
        Held("a.xml", f'<deep id="f"><acts><look id="a"/>{FORK}<look id="z"/></acts></deep>'.encode()),
        Held("b.xml", b'<plain id="g"><look id="a" does="look"/><look id="b" does="look"/></plain>'),
        Held("c.xml", b"<other/>"),
    ]
    reader = Reader([parse_dialect(PLAIN, "p.toml"), parse_dialect(DIALECT.format("deep"), "d.toml")])
    flows = list(reader.flows_of(exports))
    assert [(flow.id, [step.id for step in flow.steps]) for flow in flows] == [
        ("f", ["a", "b", "c", "d", "e", "z"]),
        ("g", ["a", "b"]),
    ]
    assert {(link.source, link.target, link.label) for link in flows[0].links} == {
        ("a", "b", ""), ("b", "c", "then"), ("b", "d", "else"), ("d", "e", ""), ("c", "z", ""), ("e", "z", ""),
    }  # fmt: skip
    assert flows[0].content.unread == 0
    assert ["c.xml" in str(problem) for problem in reader.problems] == [True]


def with_words(at: int) -> str:
    ask = f"Summarise the tide tables of quay {at} for the morning crew in four short sentences: ${{f1.body}}"
    return (
        f'<automation id="a{at}" label="Quay {at}" active="{"no" if at == 3 else "yes"}"><clock cron="{at} 6 * * *" zone="Europe/Oslo"/><flow>'
        f'<fetch id="f1" url="https://tides.example/{at}"/><prompt id="p1" model="petrel-mini-2" temperature="0.3">{ask}</prompt>'
        f'<branch id="b1" test="${{p1.text}} contains \'storm\'"><then><mail id="m1" to="harbour@ferry.example">${{p1.text}}</mail></then>'
        '<else><store id="s1" table="notes" value="${p1.text}"/></else></branch><store id="s2" table="log" value="done"/></flow></automation>'
    )


def without_words(at: int) -> str:
    rng = random.Random(at)
    kinds = ["quorn", "zelb", "frit", "zelb", "murk"]
    rng.shuffle(kinds)
    ask = f"Summarise the tide tables of quay {at} for the morning crew in four short sentences."
    said = {
        "quorn": ('url="https://tides.example"', ""), "zelb": ('brain="petrel-mini-2"', ask), "frit": ('to="crew@ferry.example"', "Ahoy"),
        "murk": ('table="notes"', ""),
    }  # fmt: skip
    acts = "".join(
        f'<{kind} key="k{place}" label="Do {place}" {said[kind][0]}>{said[kind][1]}</{kind}>'
        for place, kind in enumerate(kinds)
    )
    return f'<plan code="p{at}" title="Quay {at}"><begin tick="{at} 6 * * *"/><acts>{acts}</acts></plan>'


def proposed(texts: list[str]) -> tuple[Proposal, list[Flow]]:
    made = propose_from_documents([(f"{at}.xml", root_of(text)) for at, text in enumerate(texts)], "probe")
    reader = Reader([made.made.dialect])
    return made, list(reader.flows_of([Held(f"{at}.xml", text.encode()) for at, text in enumerate(texts)]))


def test_elements_that_are_called_what_they_do_are_proposed() -> None:
    """It found none: of elements of several names the order was lost."""
    made, flows = proposed([with_words(at) for at in range(5)])
    dialect = made.made.dialect
    assert dialect.signature.sequences == ["else", "flow", "then"] and dialect.step.operation == "@name"
    assert dialect.step.temperature == "temperature" and not flows[0].content.unread
    assert [(step.id, step.kind) for step in flows[0].steps] == [
        ("f1", "read"), ("p1", "model"), ("b1", "decide"), ("m1", "send"), ("s1", "write"), ("s2", "write"),
    ]  # fmt: skip
    cases = {link.label: (link.target, link.otherwise) for link in flows[0].links if link.role == "case"}
    assert set(cases) == {"then", "else"} and cases["else"][0] == "s1"
    assert [flow.state for flow in flows] == ["on", "on", "on", "off", "on"]


def test_an_order_that_changes_tells_it_without_any_word() -> None:
    made, flows = proposed([without_words(at) for at in range(8)])
    assert made.made.dialect.signature.sequences == ["acts"] and made.made.steps == 40
    assert [step.id for step in flows[0].steps] == ["k0", "k1", "k2", "k3", "k4"]
    assert all([link.target for link in flow.links][-4:] == ["k1", "k2", "k3", "k4"] for flow in flows)
    assert sum(step.kind == "model" for step in flows[0].steps) == 2


@pytest.mark.parametrize(
    "text",
    [
        '<plan><task id="a" does="look"/><task id="b" does="ask"/><rope from="a" to="b"/></plan>',
        '<plan><name>x</name><state>on</state><model>y</model><prompt>z</prompt></plan>',
        '<plan><step id="a"/></plan>',
        "<plan/>",
    ],
)  # fmt: skip
def test_records_and_fields_are_no_sequences(text: str) -> None:
    assert sequences_of([root_of(text)] * 4) == frozenset()


def test_the_program_proposes_and_reads_them(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x").mkdir()
    for at in range(5):
        (tmp_path / "x" / f"{at}.xml").write_text(with_words(at))
    told = run("dialect", "suggest", "x", "--name", "quay", "-o", "d.toml", "--month", "2026-11")
    assert "in the order in which they stand: else, flow, then" in told.err and "5.0 model calls" in told.err
    tried = run(
        "dialect", "test", "x", "--dialect", "d.toml", "--rules"
    ).out  # of all XML it said: no document is recognised
    assert "5    5" in next(line for line in tried.splitlines() if line.startswith("step.at")) or "30   30" in tried
    (tmp_path / "plain.toml").write_text(PLAIN)
    (tmp_path / "plain.xml").write_text('<plain id="g"><look id="a" does="look"/></plain>')
    plain = run("dialect", "test", "plain.xml", "--dialect", "plain.toml", "--rules")
    assert "no document is recognised" not in tried + plain.out + plain.err
    story = run("explain", "Quay 0", "--source", "x", "--dialect", "d.toml").out
    assert "then: goes on at 4 ‘m1’" in story and "else: goes on at 5 ‘s1’" in story and "no way leads on" not in story
