"""The parts of a proposal: what brings documents into shape, what tells builders apart, what is asked, and what follows from it."""

from __future__ import annotations

import json
import os
import pty
import subprocess
from itertools import pairwise
from pathlib import Path
from typing import Any

import msgspec
import pytest

from conftest import Run, program
from scores import read_with
from zeitbuch.readers.dialects.rules import Dialect, parse_dialect
from zeitbuch.readers.infer.alike import group_alike
from zeitbuch.readers.infer.claims import ANSWERED, probability_of
from zeitbuch.readers.infer.fields import find_columns
from zeitbuch.readers.infer.questions import turn_links
from zeitbuch.readers.infer.reshaping import shape_documents
from zeitbuch.readers.infer.state_words import says_state, state_of_word
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.infer.value_kinds import kinds_by_values


def ferry(at: int, **more: Any) -> dict[str, Any]:
    """A flow of a builder whose operations carry no trade word."""
    ask = {
        "brain": "tern-3-small",
        "telling": "You sort letters of passengers into groups. Answer with the name of one group only.",
    }
    boxes = [
        {"id": "a", "title": f"Morning {at}", "sort": "kru.zim", "given": {"cron": "0 7 * * *"}},
        {"id": "b", "title": f"Sort the letters {at}", "sort": "kru.pol", "given": ask},
        {"id": "c", "title": f"Keep the list {at}", "sort": "vas.tek", "given": {"list": "letters", "page": 3}},
        {
            "id": "d",
            "title": f"Tell the purser {at}",
            "sort": "vas.mon",
            "given": {"whom": "purser@ferry.example", "words": "New letters"},
        },
    ]
    arrows = [{"head": x, "tail": y} for x, y in ("ba", "cb", "dc")]
    return {"id": f"f{at}", "title": f"Letters of pier {at}", "boxes": boxes, "arrows": arrows, **more}


def proposal(documents: list[Any], **answers: str) -> Suggestion:
    made = suggest_dialect(documents, "probe", answers)
    assert made is not None
    return made


def test_definitions_in_texts_are_opened() -> None:
    flows = [ferry(at) for at in range(3)]
    wrapped = [{"id": flow["id"], "body": json.dumps(flow)} for flow in flows]
    shaping = shape_documents(wrapped)
    assert [rule.at for rule in shaping.rules["text"]] == ["$.body"]  # type: ignore[attr-defined]
    assert shaping.documents[0]["body"]["boxes"] == flows[0]["boxes"]
    made = proposal(wrapped)
    assert made.dialect.text[0].at == "$.body" and made.steps == 12
    assert all("boxes" not in query for query in made.dialect.signature.all)  # a file is recognised as it comes


def test_bodies_of_calls_are_no_definitions() -> None:
    flows = [ferry(at) for at in range(3)]
    flows[0]["boxes"][2]["given"]["body"] = json.dumps(
        {"letter": {"from": "passenger", "pages": [1, 2, 3]}, "desk": "purser", "pier": 3}
    )
    assert not shape_documents(flows).rules


def test_a_text_that_unfolds_without_end_is_left_alone() -> None:
    lines = ["a: &a [x, x, x, x, x, x, x, x, x]"] + [
        f"{key}: &{key} [{', '.join([f'*{before}'] * 9)}]" for before, key in pairwise("abcdefghijkl")
    ]
    documents = [{"id": "x", "name": "Bomb", "body": "\n".join(lines)}]
    assert shape_documents(documents).documents == documents


def test_a_list_of_flows_with_steps_by_name_is_no_table() -> None:
    flows = [
        {**flow, "boxes": {box.pop("id"): box for box in flow["boxes"]}} for flow in (ferry(at) for at in range(4))
    ]
    made = proposal([flows])
    assert not made.dialect.group and (made.flows, made.steps) == (4, 16)


def test_settings_as_lists_become_objects() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        for box in flow["boxes"]:
            box["given"] = [{"key": key, "val": value} for key, value in box["given"].items()]
    shaping = shape_documents(flows)
    (rule,) = shaping.rules["pairs"]
    assert (rule.at, rule.name, rule.value) == ("$.boxes[*].given", "key", "val")  # type: ignore[attr-defined]
    assert shaping.documents[0]["boxes"] == ferry(0)["boxes"]


def test_cases_and_messages_are_no_settings() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        flow["boxes"][2]["cases"] = [
            {"label": label, "next": end} for label, end in (("low", "d"), ("high", "b"), ("rest", "d"), ("none", "b"))
        ]
        flow["boxes"][1]["given"]["talk"] = [
            {"who": who, "says": "Sort the letters of the morning."} for who in ("system", "user")
        ]
    assert not shape_documents(flows).rules


def test_builders_are_told_apart_and_small_flows_belong() -> None:
    other = [{"workflow": {"label": f"W{at}", "stages": {"s1": {"op": "x"}}}, "made": "2026-01-02"} for at in range(2)]
    small = {"id": "f9", "title": "One step", "boxes": ferry(9)["boxes"][:1], "arrows": []}
    assert group_alike([ferry(0), other[0], ferry(1), small, other[1]]) == [[0, 2, 3], [1, 4]]


def test_direction_comes_from_the_trigger_not_from_the_order_of_the_list() -> None:
    made = proposal([ferry(at) for at in range(3)])
    (link,) = made.dialect.links
    assert (link.source, link.target) == ("tail", "head")
    backwards = [ferry(at) for at in range(3)]
    for flow in backwards:
        flow["boxes"].reverse()
        flow["arrows"].reverse()
    assert proposal(backwards).dialect.links == [link]


def test_several_lists_of_links_are_claimed() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        flow["errorArrows"] = [{"head": "d", "tail": "b"}]
    first, second = proposal(flows).dialect.links
    assert (first.at, second.at, second.role) == ("$.arrows[*]", "$.errorArrows[*]", "error")


@pytest.mark.parametrize(
    ("links", "pattern"),
    [
        (["a -> b", "b -> c", "c -> d"], "{from} -> {to}"),
        (["a:out => b", "b:out => c", "c:none => d"], "{from}:{outlet} => {to}"),
        (["a/out > b", "b > c", "c > d"], ["{from}/{outlet} > {to}", "{from} > {to}"]),
        (["a [out] > b", "b > c", "c > d"], ["{from} [[{outlet}]] > {to}", "{from} > {to}"]),
    ],
)
def test_links_written_as_text_are_taken_apart(links: list[str], pattern: str | list[str]) -> None:
    flows = [{**ferry(at), "arrows": links} for at in range(3)]
    made = proposal(flows)
    assert [rule.pattern for rule in made.dialect.split] == [pattern]
    (link,) = made.dialect.links
    assert (link.source, link.target) == ("from", "to")


def test_codes_of_a_legend_and_prompts_kept_elsewhere_are_looked_up() -> None:
    flows = [ferry(at) for at in range(3)]
    legend = {"10": "clock.daily", "11": "model.ask", "12": "list.append", "13": "mail.send"}
    for flow in flows:
        texts = [
            {"ref": "t1", "words": flow["boxes"][1]["given"]["telling"]},
            {"ref": "t2", "words": "Not used by anybody at the moment, kept for later."},
        ]
        flow["boxes"][1]["given"]["telling"] = "t1"
        flow |= {"legend": legend, "texts": texts}
        for code, box in zip(legend, flow["boxes"], strict=True):
            box["sort"] = int(code)
    made = proposal(flows)
    assert {(rule.at, *rule.refs) for rule in made.dialect.catalogue} == {
        ("$.legend[*]", "$.boxes[*].sort"),
        ("$.texts[*]", "$.boxes[*].given.telling"),
    }
    assert {rule.operation: rule.kind or rule.trigger for rule in made.dialect.kind} == {
        "clock.daily": "schedule", "model.ask": "model", "list.append": "write", "mail.send": "send",
    }  # fmt: skip
    assert [rule.path for rule in made.dialect.step.prompts] == ["given.telling.words"]


def test_rows_of_a_table_become_flows() -> None:
    rows = [
        {
            "pier": flow["title"],
            "box": box["id"],
            "title": box["title"],
            "sort": box["sort"],
            "given": json.dumps(box["given"]),
            "on": f"ok={after}" if after else "",
        }
        for flow in (ferry(at) for at in range(3))
        for box, after in zip(flow["boxes"], ("b", "c", "d", ""), strict=True)
    ]
    made = proposal([{"rows": rows}])
    assert [(rule.at, rule.by) for rule in made.dialect.group] == [("$.rows[*]", "pier")]
    assert [rule.at for rule in made.dialect.text] == ["$.rows[*].given"]
    assert [rule.pattern for rule in made.dialect.split] == ["{outlet}={step}"]
    assert (made.flows, made.steps) == (3, 12)


def test_a_bare_list_of_steps_is_one_flow_and_recognised_by_its_fields(tmp_path: Path, run: Run) -> None:
    steps = [
        {"id": key, "title": title, "sort": sort}
        for key, title, sort in (
            ("a", "Morning", "clock.daily"),
            ("b", "Tell", "mail.send"),
            ("c", "Keep", "list.append"),
        )
    ]
    (tmp_path / "bare.json").write_text(json.dumps(steps))
    assert run("dialect", "suggest", "bare.json", "-o", "bare.toml").code == 0
    ran = run("inventory", "bare.json", "--dialect", "bare.toml", "-f", "json")
    assert json.loads(ran.out)["totals"]["flows"] == 1, ran.err
    (tmp_path / "other.json").write_text('[{"name": "no step"}]')
    assert "unrecognised" in run("inventory", "other.json", "--dialect", "bare.toml").err


def test_tables_of_a_database_are_gathered_by_flow() -> None:
    flows = [ferry(at) for at in range(3)]
    boxes = [{**box, "id": f"{box['id']}{flow['id']}", "plan": flow["id"]} for flow in flows for box in flow["boxes"]]
    arrows = [
        {"head": f"{a['head']}{flow['id']}", "tail": f"{a['tail']}{flow['id']}", "plan": flow["id"]}
        for flow in flows
        for a in flow["arrows"]
    ]
    plans = [{"id": flow["id"], "title": flow["title"]} for flow in flows]
    made = proposal([{"plans": plans, "boxes": boxes, "arrows": arrows}])
    assert {(rule.at, rule.by, rule.to) for rule in made.dialect.gather} == {
        ("$.boxes[*]", "plan", "$.plans[*]"),
        ("$.arrows[*]", "plan", "$.plans[*]"),
    }
    assert (made.flows, made.steps) == (3, 12)


def test_ends_may_be_places_in_the_list() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        flow["arrows"] = [{"head": 1, "tail": 0}, {"head": 2, "tail": 1}, {"head": 3, "tail": 2}]
        for box in flow["boxes"]:
            del box["id"]
    made = proposal(flows)
    assert made.dialect.step.id == "@key" and made.dialect.links[0].source == "tail"


def test_what_is_not_known_is_asked_not_asserted() -> None:
    made = proposal([ferry(at) for at in range(3)])
    assert {rule.operation: rule.kind or rule.trigger for rule in made.dialect.kind} == {
        "kru.zim": "schedule",
        "kru.pol": "model",
    }
    asked = {question.id: question for question in made.questions}
    assert set(asked) == {"kind vas.tek", "kind vas.mon"}
    assert asked["kind vas.mon"].answers[0].word == "send" and "purser@ferry.example" in asked["kind vas.mon"].example
    answered = proposal([ferry(at) for at in range(3)], **{"kind vas.tek": "write", "kind vas.mon": "send"})
    assert not answered.questions
    assert {rule.kind: rule.effect for rule in answered.dialect.kind if rule.kind} == {
        "model": "none",
        "write": "write",
        "send": "send",
    }


def test_a_step_answered_to_be_a_trigger_is_one() -> None:
    made = proposal([ferry(at) for at in range(3)], **{"kind vas.tek": "event"})
    assert ("vas.tek", "event") in [(rule.operation, rule.trigger) for rule in made.dialect.kind]


def test_an_owner_overrules_what_was_not_asked() -> None:
    made = proposal([ferry(at) for at in range(3)], **{"kind kru.zim": "polling"})
    assert ("kru.zim", "polling") in [(rule.operation, rule.trigger) for rule in made.dialect.kind]


def test_states_whose_words_are_unknown_are_asked() -> None:
    flows = [ferry(at, state="afloat" if at else "docked") for at in range(3)]
    (asked,) = [question for question in proposal(flows).questions if question.id == "state"]
    assert [answer.word for answer in asked.answers] == ["afloat is on", "docked is on", "no"]
    assert proposal(flows, state="afloat is on").dialect.flow.states == {"afloat": "on", "docked": "off"}
    assert proposal(flows, state="no").dialect.flow.state == ""


def test_links_that_are_turned_round_all_run_the_other_way() -> None:
    steps = [
        {"id": key, "name": key, "type": "shape", "next": after, "failed": lost}
        for key, after, lost in (("a", "b", "c"), ("b", "", ""), ("c", "", ""))
    ]
    given: dict[str, Any] = {
        "dialect": 1,
        "name": "x",
        "signature": {"all": ["$"]},
        "flow": {},
        "step": {"at": "$.steps[*]"},
    }
    pointers = msgspec.convert({**given, "pointer": [{"at": "next"}, {"at": "failed"}]}, Dialect)
    before = msgspec.convert({**given, "predecessors": {"at": "next", "outcomes": {"lost": "failure"}}}, Dialect)

    def arrows(dialect: Dialect) -> set[tuple[str, str]]:
        (flow,) = read_with(dialect, [{"id": "f", "name": "F", "steps": json.loads(json.dumps(steps))}])
        return {(one.source, one.target) for one in flow.links}

    assert arrows(pointers) == {("a", "b"), ("a", "c")}
    assert arrows(turn_links(pointers)) == {("b", "a"), ("c", "a")}
    assert arrows(before) == {("b", "a")} and arrows(turn_links(before)) == {("a", "b")}
    assert [(rule.match, rule.role) for rule in turn_links(before).outlet] == [("lost", "error")]


def test_a_comment_is_no_prompt_and_a_wait_flag_no_switch() -> None:
    flows = [ferry(at) for at in range(4)]
    for flow in flows:
        flow["boxes"][1]["remark"] = "Ask the purser before anybody changes this box again."
        flow["boxes"][3]["given"]["holdOn"] = False
    step = proposal(flows).dialect.step
    assert [rule.path for rule in step.prompts] == ["given.telling"] and step.note == "remark"
    assert not step.enabled and not step.disabled


def test_probabilities_rise_with_the_evidence() -> None:
    strong = {"ends": 0.95, "direction": 1.0, "covered": 0.9}
    assert probability_of("links", strong) > probability_of("links", {**strong, "direction": 0.0, "covered": 0.3})
    assert probability_of("kind", {ANSWERED: 1.0}) == 0.99
    assert probability_of("no such part", {}) == 0.5


@pytest.mark.parametrize(
    ("values", "kind"),
    [
        ({"where": ["https://desk.ferry.example/v1"], "how": ["POST"]}, "http"),
        ({"whom": ["purser@ferry.example"], "words": ["News"]}, "send"),
        ({"text": ["rows = []\nreturn rows"]}, "code"),
        ({"long": [30]}, "wait"),
        ({"each": ["{{ a.rows }}"]}, "loop"),
    ],
)
def test_likely_kinds_by_values(values: dict[str, list[Any]], kind: str) -> None:
    columns, _ = find_columns([[((key,), value) for value in listed] for key, listed in values.items()])
    assert kinds_by_values(columns)[0] == kind


def test_words_of_states() -> None:
    assert [state_of_word(word) for word in ("Active", "pausiert", "segelt", "off", "brouillon")] == [
        "on",
        "off",
        "",
        "off",
        "draft",
    ]
    assert says_state("draft") and not says_state("on")


# -- from the installed program -------------------------------------------------------------------------------------------


@pytest.fixture
def exports(tmp_path: Path) -> Path:
    for at in range(3):
        (tmp_path / f"{at}.json").write_text(json.dumps(ferry(at)))
    return tmp_path


def test_questions_stand_in_the_file_and_are_answered_from_another(exports: Path, run: Run) -> None:
    ran = run("dialect", "suggest", ".", "--name", "pier", "-o", "pier.toml", "--month", "2026-11")
    assert ran.code == 0 and "2 questions left open" in ran.err, ran.err
    assert "3 flows, 90 runs in 2026-11 by the clock" in ran.err and "what would change this most" in ran.err
    text = (exports / "pier.toml").read_text()
    assert '# [[kind]]\n# operation = "vas.mon"' in text and '"kind vas.mon" = 1' in text
    assert parse_dialect(text, "pier.toml").name == "pier"
    (exports / "answers.toml").write_text('[answers]\n"kind vas.mon" = 1\n"kind vas.tek" = "write"\n')
    ran = run("dialect", "suggest", ".", "--name", "pier", "-o", "pier.toml", "--answers", "answers.toml")
    assert ran.code == 0 and "left open" not in ran.err and "3 steps that send" in ran.err, ran.err
    rows = json.loads(run("inventory", ".", "--dialect", "pier.toml", "-f", "json").out)
    assert rows["totals"]["flows"] == 3


@pytest.mark.parametrize(
    ("answers", "said"),
    [
        ('[answers]\n"kind vas" = 1\n', 'the questions: "kind vas.mon", "kind vas.tek"'),
        ('[answers]\n"kind vas.mon" = 9\n', "found '9'"),
        ('[answers]\n"kind kru.pol" = "mdoel"\n', "expected a kind of step or trigger for 'kind kru.pol'"),
        ('[answers]\n"kind vas.mon" = "sned"\n', "or another kind of step or trigger for 'kind vas.mon', found 'sned'"),
        ("answers = 3\n", "answers-key"),
        ("[answers\n", "answers-syntax"),
    ],
)
def test_answers_that_cannot_be_used(exports: Path, run: Run, answers: str, said: str) -> None:
    (exports / "answers.toml").write_text(answers)
    ran = run("dialect", "suggest", "0.json", "1.json", "2.json", "--answers", "answers.toml")
    assert ran.code == 2 and said in ran.err and not ran.out, ran.err


def test_a_pipe_is_read_once(exports: Path, run: Run) -> None:
    ran = run(
        "dialect",
        "suggest",
        "-",
        "-o",
        "pier.toml",
        "--month",
        "2026-11",
        stdin=json.dumps([ferry(at) for at in range(3)]).encode(),
    )
    assert ran.code == 0 and "3 flows, 90 runs in 2026-11 by the clock" in ran.err, ran.err


def test_what_a_limit_leaves_out_of_the_consequence_is_told(exports: Path, run: Run) -> None:
    """Numbers of a part are not told as those of all."""
    ran = run("dialect", "suggest", ".", "-o", "pier.toml", "--limit", "steps=1")
    assert "with it: 0 flows" in ran.err and "3 documents beyond a limit left out of all this" in ran.err, ran.err
    assert "no step is known to send, delete or spend" in ran.err
    assert "of all this" not in run("dialect", "suggest", ".", "-o", "pier.toml").err


def test_asking_needs_a_terminal(exports: Path, run: Run) -> None:
    ran = run("dialect", "suggest", "0.json", "--ask")
    assert ran.code == 2 and "--answers" in ran.err


def test_asked_on_a_terminal(exports: Path) -> None:
    own, theirs = pty.openpty()
    words = [*program(), "dialect", "suggest", "0.json", "1.json", "2.json", "--ask", "-o", "pier.toml"]
    with subprocess.Popen(
        words, cwd=exports, stdin=theirs, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL
    ) as process:
        os.write(own, b"wrtie\nwrite\n\n")
        _, err = process.communicate(timeout=120)
    os.close(own)
    os.close(theirs)
    told = err.decode()
    assert process.returncode == 0, told
    assert "found 'wrtie'" in told and "1 question left open" in told
    made = parse_dialect((exports / "pier.toml").read_text(), "pier.toml")
    assert "write" in [rule.kind for rule in made.kind]
