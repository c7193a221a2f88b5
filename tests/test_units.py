"""Small functions of all rooms: input -> expected."""

from __future__ import annotations

import random
from datetime import date
from decimal import Decimal
from typing import Any

import pytest

from builders import chain, link, step
from zeitbuch.core.graph.components import components
from zeitbuch.core.graph.cycles import cycle_problems
from zeitbuch.core.model.name_patterns import compile_pattern, literal_pattern, pattern_fits, pattern_rank
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin, Ref, Step, Trigger
from zeitbuch.core.model.references import ref_words, replace_refs
from zeitbuch.core.model.validation import mend_flow
from zeitbuch.core.model.words import cron_words
from zeitbuch.core.pricing.rate_card import Meter, MeterPrice, ModelRate, Price, RateCard, Stair
from zeitbuch.core.pricing.rate_validation import rate_problems
from zeitbuch.readers.dialects.paths import make_getter
from zeitbuch.readers.infer import clocks, fields
from zeitbuch.readers.infer.survey import STAR, dotted_path, find_groups, find_leaves, is_map, json_path, value_at
from zeitbuch.readers.infer.vocabulary import effect_of, guess_kinds, modality_of, plain_word, words_of
from zeitbuch.readers.input.clock_texts import duration_of
from zeitbuch.readers.input.link_builder import Loose
from zeitbuch.readers.input.views import View
from zeitbuch.readers.reading.embedded import find_embedded, might_embed
from zeitbuch.readers.reading.unrecognised import unrecognised_problem
from zeitbuch.readers.standards.serverless.task_list import TaskList, switch_cases, tasks_of


@pytest.mark.parametrize(
    ("nodes", "edges", "groups"),
    [
        ("ab", [("a", "b")], [["b"], ["a"]]),
        ("abc", [("a", "b"), ("b", "a"), ("b", "c")], [["c"], ["a", "b"]]),
        ("a", [("a", "a")], [["a"]]),
        ("", [], []),
    ],
)
def test_components_come_in_reverse_order(nodes: str, edges: list[tuple[str, str]], groups: list[list[str]]) -> None:
    assert [sorted(group) for group in components(nodes, edges)] == groups


@pytest.mark.parametrize(
    ("pattern", "names", "fits"),
    [
        ("*", ("",), True),
        ("", ("x",), False),
        ("Let*", ("letters", "Letters"), True),
        ("letters", ("Letters",), True),
        ("a[*]c", ("a*c",), True),
        ("a[*]c", ("abc",), False),
    ],
)
def test_patterns_fit_names(pattern: str, names: tuple[str, ...], fits: bool) -> None:
    assert pattern_fits(pattern, *names) is fits and bool(compile_pattern(pattern)(names)) is fits


@pytest.mark.parametrize("name", ["a*b", "a?b", "[x]", "plain"])
def test_a_literal_pattern_means_itself(name: str) -> None:
    assert pattern_fits(literal_pattern(name), name) and pattern_rank(literal_pattern(name)) == 2
    assert (pattern_rank(""), pattern_rank("*"), pattern_rank("a*")) == (0, 0, 1)


@pytest.mark.parametrize(
    ("ref", "words"),
    [
        (Ref(step="look", path="rows"), "rows of ‘Look up’"),
        (Ref(step="look"), "‘Look up’"),
        (Ref(step="gone"), "‘gone’"),
    ],
)
def test_references_in_words(ref: Ref, words: str) -> None:
    assert ref_words(ref, {"look": "Look up"}) == words


def test_placeholders_are_put_into_words() -> None:
    refs = (Ref(step="look", path="mail", text="{{look.mail}}"),)
    assert replace_refs("To: {{look.mail}}", refs, {"look": "Look up"}) == "To: mail of ‘Look up’"


@pytest.mark.parametrize(
    ("cron", "words"),
    [
        ("* * * * *", "every minute"),
        ("*/15 * * * *", "every 15 minutes"),
        ("0 6 * * *", "daily at 06:00"),
        ("30 8,17 * * 1-5", "on weekdays at 08:30 and 17:30"),
        ("0 7 1 * *", "on the 1st at 07:00"),
        ("5 4 * * 0,6", "at weekends at 04:05"),
        ("0 0 1 1 *", "on the 1st in January at 00:00"),
        ("0 */4 * * *", "every 4 hours"),
        ("*/45 * * * *", "cron '*/45 * * * *'"),  # at 0 and 45 past: not every 45 minutes
        ("0 */5 * * *", "cron '0 */5 * * *'"),
        ("@daily", "cron '@daily'"),
    ],
)
def test_cron_in_words(cron: str, words: str) -> None:
    assert cron_words(cron) == words


def problems_of(steps: list[Step], links: list[Any], triggers: tuple[Trigger, ...] = ()) -> list[str]:
    return [p.code for p in mend_flow(Flow(id="f", steps=tuple(steps), links=tuple(links), triggers=triggers))[1]]


@pytest.mark.parametrize(
    ("steps", "links", "codes"),
    [
        ([step("a"), step("b")], [link("a", "b")], []),
        ([step("a"), step("a")], [], ["step-id"]),
        ([step("a"), step("")], [], ["step-id"]),
        ([step("a")], [link("a", "gone")], ["link-end"]),
        ([step("a", scope="a")], [], ["step-scope"]),
        ([step("a", scope="gone")], [], ["step-scope"]),
        ([step("a", scope="b"), step("b", scope="a")], [], ["step-scope"]),
    ],
)
def test_broken_flows_are_mended_and_told(steps: list[Step], links: list[Any], codes: list[str]) -> None:
    assert problems_of(steps, links) == codes


def test_a_cycle_with_a_way_out_is_a_notice_and_one_without_a_finding() -> None:
    ring = chain(step("a"), step("b"))
    back = Flow(id="f", steps=ring.steps, links=(*ring.links, link("b", "a")))
    assert [p.severity for p in cycle_problems(back)] == ["finding"]
    out = Flow(id="f", steps=(*ring.steps, step("c")), links=(*back.links, link("b", "c")))
    assert [p.severity for p in cycle_problems(out)] == ["info"]


DAY = date(2026, 1, 1)
STAIRS = MeterPrice(DAY, each=Decimal(1), included=Decimal(9), stair=(Stair(above=Decimal(5), each=Decimal(1)),))


@pytest.mark.parametrize(
    ("card", "code"),
    [
        (RateCard("euro"), "rate-currency"),
        (RateCard("EUR", model=(ModelRate("m"),)), "rate-empty"),
        (RateCard("EUR", model=(ModelRate("m", family="odd", price=(Price(since=DAY),)),)), "token-family"),
        (RateCard("EUR", model=(ModelRate("m", price=(Price(since=DAY, input=Decimal(-1)),)),)), "rate-negative"),
        (RateCard("EUR", meter=(Meter("r", counts="run", kinds=("model",)),)), "rate-kind"),
        (RateCard("EUR", meter=(Meter("r", counts="step", kinds=("conjure",)),)), "rate-kind"),  # type: ignore[arg-type]
        (RateCard("EUR", meter=(Meter("r", counts="run", tiers=("big",)),)), "rate-kind"),
        (RateCard("EUR", meter=(Meter("r", counts="call", tiers=("big",)),)), "rate-reference"),
        (RateCard("EUR", meter=(Meter("r", counts="run", price=(STAIRS,)),)), "rate-stairs"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_rate_card(card: RateCard, code: str) -> None:
    assert code in [problem.code for problem in rate_problems(card)]


# -- infer -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("dicts", "found"),
    [
        ([{"a": {"t": 1, "u": 2, "v": 3}, "b": {"t": 1, "u": 5, "v": 3}, "c": {"t": 1, "u": 2, "v": 3}}], True),
        ([{"1": {"t": 1}, "2": {"t": 2}}], True),
        ([{"name": "x", "steps": {"a": 1}}], False),
        ([{"a": {"x": 1}, "b": {"y": 1}}], False),
    ],
)
def test_objects_whose_keys_are_names(dicts: list[dict[str, Any]], found: bool) -> None:
    assert is_map(dicts) is found


def test_places_that_repeat() -> None:
    document = {"flow": {"steps": [{"id": 1, "op": "a"}, {"id": 2, "op": "b"}], "tags": ["x", "y"]}}
    assert [(g.path, len(g.items)) for g in find_groups([document])] == [(("flow", "steps", STAR), 2)]
    assert list(find_leaves({"a": [1, {"b": 2}]})) == [(("a", STAR), 1), (("a", STAR, "b"), 2)]
    assert value_at(document, ("flow", "steps")) == document["flow"]["steps"] and value_at(document, ("x",)) is None


@pytest.mark.parametrize(
    ("path", "dotted", "query"),
    [
        ((), "", "$"),
        (("a", "b"), "a.b", "$.a.b"),
        (("a", STAR, "b"), "a.*.b", "$.a[*].b"),
        (("odd key",), '"odd key"', "$['odd key']"),
    ],
)
def test_paths_are_spelled_for_dialects(path: tuple[str, ...], dotted: str, query: str) -> None:
    assert (dotted_path(path), json_path(path)) == (dotted, query)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("mailBox.send_v2", ("mail", "box", "send")),
        ("HTTPRequest", ("http", "request")),
        ("Verzögerung", ("verzogerung",)),
        ("", ()),
    ],
)
def test_words_of_operations(text: str, words: tuple[str, ...]) -> None:
    assert words_of(text)[: len(words)] == words and plain_word("Straße") == "strasse"


@pytest.mark.parametrize(
    ("operation", "hint"),
    [
        ("mail.send", "send"),
        ("table.find", "read"),
        ("row.insert", "write"),
        ("http.request", "http"),
        ("verzweigung", "decide"),
        ("webhook", "on:webhook"),
        ("cron.trigger", "on:schedule"),
        ("chat model", "model"),
    ],
)
def test_kinds_by_words(operation: str, hint: str) -> None:
    assert guess_kinds(operation)[0].hint == hint


def test_operations_without_a_known_word_are_left_open() -> None:
    assert guess_kinds("qzx.blorb") == ()
    assert (modality_of("speech.say"), modality_of("llm.ask")) == ("speech", "text")
    assert (effect_of("send", "mail.send"), effect_of("shape", "map")) == ("send", "none")


def columns(**values: list[Any]) -> dict[tuple[str, ...], fields.Column]:
    found, _ = fields.find_columns([[((key,), value) for value in listed] for key, listed in values.items()])  # type: ignore[misc]
    return found


@pytest.mark.parametrize(
    ("values", "wanted"),
    [
        ({"when": ["0 6 * * *"]}, {"cron": ("when",)}),
        ({"zone": ["Europe/Oslo"]}, {"zone": ("zone",)}),
        ({"every": [15], "unit": ["minutes", "hours"]}, {"every": ("every",), "unit": ("unit",), "units": None}),
        (
            {"alle": [2], "einheit": ["Stunden"]},
            {"every": ("alle",), "unit": ("einheit",), "units": None},
        ),
        ({"minutes": [15]}, {"every": ("minutes",), "every_unit": "minutes"}),
        ({"rest": ["15 min"], "till": ["PT1H"]}, {"every": ("rest",)}),
        ({"days": ["mon", "fri"], "at": ["08:30"]}, {"days": ("days",), "time": ("at",), "weekdays": None}),
        ({"jour": ["lundi"], "at": ["8:30"]}, {"days": ("jour",), "weekdays": {"lundi": "mon"}}),
        ({"days": [1, 15], "at": ["8:30"]}, {"month_days": ("days",), "time": ("at",)}),
        ({"path": ["/in"]}, {"event": ("path",)}),
        ({"batch": [20]}, {"batch": ("batch",)}),
    ],
)
def test_clocks_of_triggers(values: dict[str, list[Any]], wanted: dict[str, Any]) -> None:
    found = clocks.find_clock(columns(**values))
    assert {key: found.get(key) for key in wanted} == wanted


@pytest.mark.parametrize(
    ("values", "wanted"),
    [
        ({"temperature": [0.2]}, {"temperature": ("temperature",)}),
        ({"max_tokens": [512]}, {"max_output": ("max_tokens",)}),
        ({"turns": [5]}, {"max_turns": ("turns",)}),
        ({"heat": [0.5]}, {"temperature": ("heat",)}),
        ({"count": [7]}, {}),
    ],
)
def test_numbers_of_models(values: dict[str, list[Any]], wanted: dict[str, Any]) -> None:
    assert fields.find_numbers(columns(**values)) == wanted


def test_placeholders_are_found_by_the_names_within() -> None:
    found = fields.find_placeholders(["Answer {{ letter.body }}.", "To {{ letter.mail }}"], {"letter"}, set())
    assert found is not None and (found.open, found.close) == ("{{", "}}")
    assert fields.find_placeholders(["no names here"], {"letter"}, set()) is None


# -- reading -----------------------------------------------------------------------------------------------------------


def test_definitions_within_texts() -> None:
    inner = '{"zeitbuch": 1, "flows": [{"id": "a", "steps": [], "name": "Inner flow of the harbour"}]}'
    (found,) = find_embedded(
        {"a": [{"text": inner}, {"text": "{not json at all, but long enough to be looked at, surely}"}]}
    )
    assert found.pointer == "/a/0/text" and found.value["flows"][0]["id"] == "a"
    assert might_embed(b'{"text": "{\\"a\\": 1}"}', yaml=False) and not might_embed(b'{"text": "plain"}', yaml=False)
    draw = random.Random(1)
    for _ in range(2000):
        raw = bytes(draw.choice(b'{\\"a') for _ in range(draw.randint(0, 12)))
        assert might_embed(raw, yaml=False) == (b"{\\" in raw), raw


@pytest.mark.parametrize(
    ("value", "look"),
    [
        ({"a": 1}, "an object with the keys 'a'"),
        ({}, "an empty object"),
        ([1, 2], "a list of 2 values"),
        ("x", "a single str"),
    ],
)
def test_what_an_unknown_document_looks_like(value: Any, look: str) -> None:
    problem = unrecognised_problem(value, Origin("x.json"), [])
    assert isinstance(problem, Problem) and problem.message.endswith(look) and "dialect suggest x.json" in problem.hint


@pytest.mark.parametrize(
    ("value", "seconds"),
    [({"minutes": 2}, 120.0), ({"hours": 1, "seconds": 5}, 3605.0), ("PT15M", 900.0), ("soon", None), (None, None)],
)
def test_durations_of_tasks(value: Any, seconds: float | None) -> None:
    assert duration_of(value) == seconds


def test_directives_send_arrows() -> None:
    tasks, faults = tasks_of([{"a": {"set": {}}}, {"b": {"set": {}}}, 7], "/do")
    assert [(t.name, t.pointer) for t in tasks] == [("a", "/do/0/a"), ("b", "/do/1/b")] and faults == [("/do/2", 7)]
    level = TaskList(tasks, ["a", "b"], "/do", None, "")
    arrow, case = Loose("a"), Loose("a", "case", "late")
    assert level.send_arrows([arrow], "continue", 0) == [] and level.arriving[1] == [arrow]
    assert level.send_arrows([case], "end", 0) == [case] and level.leaving == []
    assert level.send_arrows([arrow, case], "exit", 1) == [case] and level.leaving == [arrow]
    assert level.knows("b") and not level.knows("c") and not level.knows({"x": 1})


def test_a_switch_without_a_last_resort_has_a_way_past_it() -> None:
    open_ = list(switch_cases("s", View({"switch": [{"late": {"when": ".late", "then": "b"}}], "then": "c"})))
    assert [(loose.label, then) for loose, then in open_] == [("late", "b"), ("otherwise", "c")]
    closed = list(
        switch_cases("s", View({"switch": [{"late": {"when": ".late", "then": "b"}}, {"else": {"then": "c"}}]}))
    )
    assert [(loose.label, then) for loose, then in closed] == [("late", "b"), ("else", "c")]


@pytest.mark.parametrize(
    ("path", "record", "value"),
    [("a.b", {"a": {"b": 1}}, 1), ("a", {}, None), ("a.0", {"a": [4]}, 4)],
)
def test_getters_of_dialects(path: str, record: dict[str, Any], value: Any) -> None:
    assert make_getter(path)(record) == value
