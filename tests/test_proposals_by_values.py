"""Proposals where words mislead or say nothing: values, and how steps stand, decide or are asked about."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import Run
from zeitbuch.readers.dialects.rules import KindRule, parse_dialect
from zeitbuch.readers.infer.question_records import Question
from zeitbuch.readers.infer.spell import spell_dialect
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.infer.vocabulary import guess_kinds

ROOMS = "ledger quay ballast cabin winch galley".split()
PROMPT = (
    "You look after the {0} of a ferry. Read the letter and answer with one short line about the {0}, in plain words."
)


def with_misleading_words(at: int, starts: bool = True) -> dict[str, Any]:
    """Parts by name, each with those after it: a fork that has answers, a 'note' that is sent, tries under keys that say nothing; triggers
    of three types under words of no trade, or (without ``starts``) with no field that tells them apart."""
    rng = random.Random(f"words {at}")
    room = ROOMS[at % len(ROOMS)]
    kinds = ["kq/ask", "br/fork", "zz/fetch", "mm/note-out", "lp/each", "kq/ask"]
    options: dict[str, list[Any]] = {
        "kq/ask": [("brain", "skua-lite-1"), ("say", PROMPT.format(room)), ("heat", 0.2)],
        "br/fork": [],
        "zz/fetch": [("url", f"https://api.{room}.example/v1"), ("verb", "GET")],
        "mm/note-out": [("to", f"{room}@ferry.example"), ("words", "{{ in.text }}")],
        "lp/each": [("over", "{{ in.rows }}")],
    }
    names = [f"n{rng.randrange(10**6):06d}" for _ in kinds]
    parts = {}
    for place, (name, kind) in enumerate(zip(names, kinds, strict=True)):
        after = [{"go": target} for target in names[place + 1 : place + 2]]
        if kind == "br/fork":
            after = [{"go": names[place + 1], "if": "yes"}, {"go": names[place + 2], "if": "no"}]
        part = {
            "face": f"Part {place} of the {room}",
            "made_of": kind,
            "opts": [{"k": k, "v": v} for k, v in options[kind]],
        }
        parts[name] = {**part, "next": after, **({"tries": {"n": 3, "gap_s": 10}} if kind == "zz/fetch" else {})}
    begin: dict[str, Any] = [
        {"by": "tick", "cron": f"{at} 6 * * 1-5", "tz": "Europe/Oslo"},
        {"by": "hook", "path": f"/in/{at}"},
        {"by": "mail", "box": "desk@ferry.example"},
    ][at % 3]
    if not starts:
        del begin["by"]
    return {
        "flowsheet": {
            "slug": f"fs-{at}",
            "face": f"{room.title()} desk {at}",
            "begins": {**begin, "go": names[0]},
            "parts": parts,
        }
    }


def without_words(at: int) -> dict[str, Any]:
    """Steps by number with wires as text; a call of another flow by its code, a question to somebody, states and switches in words of no
    language that is known."""
    room = ROOMS[at % len(ROOMS)]
    given: list[tuple[str, dict[str, Any]]] = [
        ("cer.a", {"mdl": "petrel:9b", "sys": PROMPT.format(room), "mx": 300}),
        ("cer.b", {"mdl": "tern-embed-2", "src": "<<10.out>>", "siz": 800, "ovl": 80}),
        ("ok.xx", {"hvem": f"{room}@ferry.example", "svar": "P2D"}),
        ("sub.go", {"skema": f"sk{(at + 1) % 8}"}),
        ("nok.w", {"tab": room, "row": "<<10.out>>"}),
    ]
    rows = [
        {
            "no": place * 10 + 10,
            "txt": f"Trin {place} {room}",
            "tp": kind,
            "sp": settings,
            "st": "sov" if (place, at % 4) == (4, 1) else "gang",
        }
        for place, (kind, settings) in enumerate(given)
    ]
    wires = ["10 > 20", "20 > 30", "30:godkendt > 40", "30:afvist > 50", "40 > 50"]
    state = "hvile" if at % 3 == 1 else "drift"
    start = {"ur": f"{at} 7 * * *", "til": 10}
    return {
        "skema": {
            "kode": f"sk{at}",
            "navn": f"{room.title()} vagt {at}",
            "tilstand": state,
            "start": start,
            "trin": rows,
            "traad": wires,
        }
    }


KINDS = {"1": "timeplan", "2": "samtale.modell", "3": "hent.rader", "4": "for.hver", "5": "agent", "6": "send.epost"}


def with_numbered_types(at: int, listed: bool) -> dict[str, Any]:
    """Nodes by number whose type is a number too, explained in the same small records in every file; and an agent with a number of turns
    that is the number of a loop."""
    room = ROOMS[at % len(ROOMS)]
    given: list[tuple[int, dict[str, Any]]] = [
        (1, {"dager": ["man", "ons"], "kl": "07:15", "sone": "Europe/Oslo"}),
        (3, {"tabell": room}),
        (4, {"liste": "[[2.rader]]"}),
        (2, {"modell": "tern-3-small", "tekst": PROMPT.format(room)}),
        (5, {"modell": "tern-3-large", "tekst": PROMPT.format(room), "runder": 4}),
        (6, {"til": f"{room}@ferry.example", "emne": "Ny sak"}),
    ]
    given = [given[0], *given[1 : 2 + at % 3], given[1], *given[2 : 5 + at % 2]]
    nodes = [
        {"n": place, "t": kind, "tittel": f"Trinn {place} {room}", "felt": felt}
        for place, (kind, felt) in enumerate(given, 1)
    ]
    wires = [{"fra": {"n": place}, "til": {"n": place + 1}} for place in range(1, len(given))]
    kinds: Any = {key: {"kode": word} for key, word in KINDS.items()}
    if listed:
        kinds = [{"nr": int(key), "kode": word} for key, word in KINDS.items()]
    return {
        "flyt": {"id": f"fl-{at}", "navn": f"{room.title()} rutine {at}"},
        "graf": {"noder": nodes, "ledninger": wires},
        "typer": kinds,
    }


def with_single_keys(at: int) -> dict[str, Any]:
    """Jobs by name with those before them; what starts a flow under a key that says what it is; an agent that names its tools."""
    room = ROOMS[at % len(ROOMS)]
    begin: Any = [
        {"clock": {"at": "07:30", "days": ["mon"], "tz": "Europe/Oslo"}},
        {"web": {"path": f"/s/{at}", "key": "required"}},
        {"poll": {"what": "inbox", "every": "10m"}},
    ][at % 3]
    jobs: dict[str, Any] = {
        f"sort {room}": {"uses": "ai.complete@2", "with": {"ai": "kestrel-4-small", "instructions": PROMPT.format(room)}},
        f"ask {room}": {"uses": "ai.agent@1", "after": [f"sort {room}"], "with": {"ai": "kestrel-4-large", "instructions": PROMPT.format(room), "may_use": [f"tool {room}"]}},
        f"tool {room}": {"uses": "net.request@3", "with": {"href": f"https://{room}.example/t", "verb": "GET"}},
        f"run {room}": {"uses": "ctl.run-sheet@1", "after": [f"ask {room}"], "with": {"sheet": f"sheet-{(at + 1) % 9}"}},
        f"keep {room}": {"uses": "db.save@1", "after": [f"run {room}"], "with": {"set": room, "row": "x"}},
    }  # fmt: skip
    return {
        "sheet": f"sheet-{at}",
        "title": f"{room.title()} desk {at}",
        "paused": at % 4 == 0,
        "on": begin,
        "jobs": jobs,
    }


def with_ways_inside(at: int) -> dict[str, Any]:
    """Steps with the next one's number, or several with what leads there; what starts a flow has its type where steps have theirs."""
    room = ROOMS[at % len(ROOMS)]
    begin = {"slag": "kl", "cron": f"{at} 7 * * *"} if at % 2 else {"slag": "adr", "sti": f"/x/{at}"}
    steps: list[dict[str, Any]] = [
        {"nr": "s0", "slag": "qa", "hjerne": "auk-7-mini", "si": PROMPT.format(room), "saa": "s1"},
        {"nr": "s1", "slag": "qd", "vei": [{"naar": "ja", "saa": "s2"}, {"naar": "nei", "saa": "s3"}]},
        {"nr": "s2", "slag": "qb", "adr": f"https://{room}.example/v2", "maate": "POST", "saa": "s3"},
        {"nr": "s3", "slag": "qa", "hjerne": "auk-7-mini", "si": PROMPT.format(room)},
    ]
    named = [{**one, "navn": f"{room} {place}"} for place, one in enumerate(steps)]
    return {
        "ref": f"p{at}",
        "kaption": f"{room.title()} tur {at}",
        "lever": at % 3 != 1,
        "begynn": [begin],
        "ledd": named,
    }


def whole_space() -> dict[str, Any]:
    """Flows in one file with the connections, models and prompts that their steps name by id."""
    conns = [("c-0", "mailbox", "desk@ferry.example"), ("c-1", "tables", "svc-bot")]
    flows = []
    for at in range(8):
        room = ROOMS[at % len(ROOMS)]
        boxes = [
            {"b": 1, "act": "inbox.arrived", "cap": f"New {room}", "in": {"conn": "c-0", "folder": "new"}},
            {
                "b": 2,
                "act": "llm.classify",
                "cap": f"Sort {room}",
                "in": {"model": f"m-{at % 2}", "prompt": f"pr-{at % 4}", "text": "{{b1.text}}"},
            },
            {
                "b": 3,
                "act": "table.add",
                "cap": f"Keep {room}",
                "in": {"conn": "c-1", "table": room, "row": "{{b2.text}}"},
            },
            {
                "b": 4,
                "act": "mail.send",
                "cap": f"Tell {room}",
                "in": {"conn": "c-0", "to": f"{room}@ferry.example", "text": "{{b2.text}}"},
            },
        ]
        edges = [{"s": place, "d": place + 1} for place in (1, 2, 3)]
        flows.append(
            {
                "fid": f"f-{at:03d}",
                "called": f"{room.title()} desk {at}",
                "live": at % 3 > 0,
                "boxes": boxes,
                "edges": edges,
            }
        )
    models = [{"mid": f"m-{at}", "label": f"dunlin-5-{size}"} for at, size in enumerate(("mini", "max"))]
    prompts = [{"pid": f"pr-{at}", "body": PROMPT.format(room)} for at, room in enumerate(ROOMS[:4])]
    rows = [dict(zip(("cid", "svc", "acct"), one, strict=True)) for one in conns]
    return {"export": "4.2", "space": {"conns": rows, "models": models, "prompts": prompts, "flows": flows}}


def in_stages(at: int) -> dict[str, Any]:
    """Tasks in stages, of which the later take values of the earlier; what starts a flow has its clock one level deeper."""
    room = ROOMS[at % len(ROOMS)]
    ask = {"quoi": "ia.reponse", "avec": {"modele": "sterne-2", "consigne": PROMPT.format(room)}}
    first = [
        {"nom": f"trier_{room}_00", **ask},
        {"nom": f"lire_{room}_01", "quoi": "donnees.lire", "avec": {"table": room}, "essais": 3},
    ]
    then = [
        {
            "nom": f"ecrire_{room}_10",
            "quoi": "donnees.ecrire",
            "avec": {"table": room, "ligne": f"$(trier_{room}_00.texte)"},
        },
        {
            "nom": f"dire_{room}_11",
            "quoi": "message.courriel",
            "avec": {"a": f"{room}@ferry.example", "corps": f"$(lire_{room}_01.texte)"},
        },
    ]
    begin = (
        {"type": "crochet", "chemin": f"/c/{at}"}
        if at % 2
        else {"type": "minuterie", "planning": {"expression": f"{at} 5 * * *"}}
    )
    stages = [{"etape": "E0", "taches": first}, {"etape": "E1", "taches": then}]
    head = {"code": f"fx-{at}", "intitule": f"{room.title()} suivi {at}", "etat": ["actif", "brouillon"][at % 3 == 1]}
    return {"flux": {**head, "depart": begin, "etapes": stages}}


def with_starts(at: int) -> dict[str, Any]:
    """Nodes and a net of what follows them; what starts a flow is called a start of something, and only its values tell of what."""
    room = ROOMS[at % len(ROOMS)]
    begin = [
        ("start.zeit", {"plan": {"takt": [5, 15][at % 2], "einheit": "Minuten"}}),
        ("start.anruf", {"pfad": f"/e/{at}"}),
        ("start.ordner", {"ordner": "eingang", "abstand": "10 min"}),
        ("start.ding", {"sache": room}),
    ][at % 4]
    given = [
        begin,
        ("ki.text", {"motor": "seeadler-3", "vorgabe": PROMPT.format(room)}),
        ("post.senden", {"an": f"{room}@ferry.example"}),
    ]
    nodes = {
        f"K{place:02d}": {"bez": f"Knoten {place} {room}", "art": kind, "werte": values}
        for place, (kind, values) in enumerate(given)
    }
    net = {"K00": {"weiter": ["K01"]}, "K01": {"weiter": ["K02"]}}
    return {
        "ablauf": {
            "kennung": f"abl-{at}",
            "name": f"{room.title()} Ablauf {at}",
            "zustaendig": "Ola Tveit",
            "knoten": nodes,
            "netz": net,
        }
    }


def with_codes(at: int) -> dict[str, Any]:
    """Steps of types that are bare numbers, explained nowhere."""
    room = ROOMS[at % len(ROOMS)]
    given: dict[int, dict[str, Any]] = {
        1: {"q": f"{at} 4 * * *"},
        3: {"m": "brent-2-mid", "l": PROMPT.format(room), "x": 250},
        7: {"u": f"https://{room}.example/q", "v": "GET"},
        9: {"r": f"{room}@ferry.example", "w": "{1}"},
    }
    kinds = [1, 3, [7, 9][at % 2], 3, 9]
    steps = [{"i": place, "n": f"Look {room} {place}", "t": kind, "b": given[kind]} for place, kind in enumerate(kinds)]
    return {
        "g": {
            "i": 1000 + at,
            "n": f"{room.title()} line {at}",
            "S": steps,
            "L": [[place, place + 1] for place in range(4)],
        }
    }


def proposed(documents: list[Any]) -> tuple[Suggestion, dict[str, KindRule], dict[str, Question]]:
    made = suggest_dialect(documents, "b")
    assert made is not None
    return made, {rule.operation: rule for rule in made.dialect.kind}, {one.id: one for one in made.questions}


def test_how_steps_stand_outweighs_their_words() -> None:
    made, kinds, asked = proposed([with_misleading_words(at) for at in range(12)])
    assert kinds["br/fork"].kind == "decide"  # one of several answers, not all ways at once
    assert "mm/note-out" not in kinds  # what a run goes through, with an address to send to, is no remark
    assert all("not measured" not in one.line for one in made.claims)
    words = [one.word for one in asked["kind mm/note-out"].answers]
    assert words[0] == "send" and "note" not in words
    assert (made.dialect.step.retries, made.dialect.step.retry_wait) == ("tries.n", "tries.gap_s")
    assert made.dialect.trigger is not None and made.dialect.trigger.operation == "by"
    assert (kinds["tick"].trigger, kinds["hook"].trigger) == ("schedule", "webhook") and "trigger mail" in asked


def test_triggers_that_no_field_tells_apart_go_by_the_fields_they_have() -> None:
    """A third of them has a clock: that all are schedules was 98 % sure."""
    made, _, asked = proposed([with_misleading_words(at, starts=False) for at in range(12)])
    trigger = made.dialect.trigger
    assert trigger is not None and (trigger.operation, trigger.starts) == ("", "go")
    rules = {rule.has: rule for rule in made.dialect.kind if rule.trigger}
    assert {name: rule.trigger for name, rule in rules.items()} == {
        "cron": "schedule",
        "path": "webhook",
        "box": "event",
    }
    assert {rule.operation for rule in rules.values()} == {""}  # no step is meant
    assert (rules["cron"].cron, rules["cron"].zone) == ("cron", "tz")
    assert "trigger box" in asked and "trigger cron" not in asked
    answered = suggest_dialect(
        [with_misleading_words(at, starts=False) for at in range(12)], "b", {"trigger box": "polling"}
    )
    assert answered is not None
    assert {rule.has: rule.trigger for rule in answered.dialect.kind}["box"] == "polling"


def test_triggers_that_have_none_of_the_telling_fields_come_last() -> None:
    """Their rule stood first and took all others, so that the proposal was refused when it was read."""
    documents = [with_misleading_words(at, starts=False) for at in range(12)]
    for document in (documents[0], documents[5]):
        begins = document["flowsheet"]["begins"]
        document["flowsheet"]["begins"] = {"go": begins["go"]}
    made, _, asked = proposed(documents)
    triggers = [rule for rule in made.dialect.kind if rule.trigger]
    assert triggers[-1].has == "" and all(rule.has for rule in triggers[:-1]) and "trigger " in asked
    assert parse_dialect(spell_dialect(made, ["x.json"]), "x.toml").kind == made.dialect.kind


def test_what_the_owner_says_of_a_trigger_apart_is_taken() -> None:
    """The answer was called 99 % sure, and the kind stayed what it had been."""
    documents = [with_misleading_words(at) for at in range(12)]
    made = suggest_dialect(documents, "b", {"trigger mail": "polling"})
    assert made is not None and {rule.operation: rule.trigger for rule in made.dialect.kind}["mail"] == "polling"
    claim = next(one for one in made.claims if one.part == "trigger kind" and one.of == "mail")
    assert (claim.words, claim.percent) == ("polling", 99)


def test_triggers_without_any_two_sorts_of_fields_are_asked_about() -> None:
    documents = [with_misleading_words(at * 3, starts=False) for at in range(9)]
    for document in documents[::2]:
        del document["flowsheet"]["begins"]["cron"], document["flowsheet"]["begins"]["tz"]
    made, _, asked = proposed(documents)
    assert not any(rule.has for rule in made.dialect.kind)
    claim = next(one for one in made.claims if one.part == "trigger kind")
    assert claim.is_asked and "trigger " in asked


def with_conditions(at: int, key: str, values: tuple[str, ...]) -> dict[str, Any]:
    """A list of steps in order, of which some carry a text that compares something."""
    rng = random.Random(f"conditions {at}")
    steps = []
    for place in range(rng.randint(5, 8)):
        does = ["http.get", "ai.answer", "mail.send", "table.append"][place % 4]
        given = {
            "http.get": {"url": f"https://api.{ROOMS[at % 6]}.example/v1"},
            "ai.answer": {"model": "skua-lite-1", "prompt": PROMPT.format(ROOMS[at % 6])},
            "mail.send": {"to": "desk@ferry.example", "body": f"{{{{ s{place}.text }}}}"},
            "table.append": {"table": "arrivals", "row": f"{{{{ s{place}.row }}}}"},
        }[does]
        step = {"id": f"s{place + 1}", "title": f"Step {place} of the {ROOMS[at % 6]}", "uses": does, "with": given}
        gated = {key: rng.choice(values).format(f"s{place}")} if place and rng.random() < 0.4 else {}
        steps.append({**step, **gated})
    return {"flow": f"f-{at}", "title": f"Flow {at} of the desk", "on": {"cron": "0 6 * * *"}, "steps": steps}


COMPARING = ("{{{{ {0}.state }}}} == 'late'", "{{{{ {0}.count }}}} > 3")


@pytest.mark.parametrize(
    ("key", "field"), [("if", "own_condition"), ("wenn", "own_condition"), ("skip_if", "skip_condition")]
)
def test_conditions_of_steps_say_whether_they_run(key: str, field: str) -> None:
    """They were left unread, and every step was counted once."""
    made, _, asked = proposed([with_conditions(at, key, COMPARING) for at in range(10)])
    assert getattr(made.dialect.step, field) == key and "condition" not in asked
    claim = next(one for one in made.claims if one.part == "own condition")
    assert 90 <= claim.percent <= 98


@pytest.mark.parametrize(("key", "values"), [("blorp", COMPARING), ("when", (*COMPARING, "soon", "later"))])
def test_words_or_values_alone_are_asked_about(key: str, values: tuple[str, ...]) -> None:
    documents = [with_conditions(at, key, values) for at in range(10)]
    made, _, asked = proposed(documents)
    assert made.dialect.step.own_condition == made.dialect.step.skip_condition == ""
    assert [one.word for one in asked["condition"].answers] == ["runs", "skips", "until", "no"]
    for word, field in (("runs", "own_condition"), ("skips", "skip_condition"), ("until", "own_until")):
        answered = suggest_dialect(documents, "b", {"condition": word})
        assert answered is not None and getattr(answered.dialect.step, field) == key
        assert not any(question.id == "condition" for question in answered.questions)
    refused = suggest_dialect(documents, "b", {"condition": "no"})
    assert refused is not None and refused.dialect.step == made.dialect.step


@pytest.mark.parametrize(("key", "told"), [("if", True), ("blorp", False)])
def test_what_all_steps_of_a_kind_have_is_asked_about_at_most(key: str, told: bool) -> None:
    documents = [with_conditions(at, "if", COMPARING) for at in range(10)]
    for document in documents:
        for step in document["steps"]:
            step.pop("if", None)
            if step["uses"] == "table.append":
                step[key] = "count > 3"
    made, _, asked = proposed(documents)
    assert made.dialect.step.own_condition == "" and ("condition" in asked) == told


def test_values_tell_without_words() -> None:
    made, kinds, asked = proposed([without_words(at) for at in range(8)])
    assert kinds["sub.go"].kind == "subflow" and kinds["sub.go"].calls == "sp.skema"
    assert asked["kind cer.b"].answers[0].word == "embed"
    assert [one.word for one in asked["kind ok.xx"].answers][:2] == ["approve", "decide"]
    said = {one.of: one.sure_words for one in made.claims if one.part == "kind"}
    assert (said["sub.go"], said["ok.xx"]) == ("not measured", "in doubt")  # no made-up builder of the fit has either
    assert "switch" in asked and "state" in asked and made.dialect.step.enabled == made.dialect.flow.state == ""
    answered = suggest_dialect(
        [without_words(at) for at in range(8)], "b", {"switch": "yes", "state": "drift is on", "kind ok.xx": "approve"}
    )
    assert answered is not None
    step, flow = answered.dialect.step, answered.dialect.flow
    assert (step.enabled, step.switches) == ("st", {"gang": True, "sov": False})
    assert (flow.state, flow.states) == ("tilstand", {"drift": "on", "hvile": "off"})


@pytest.mark.parametrize("listed", [False, True])
def test_what_every_file_explains_alike_is_no_flow(listed: bool) -> None:
    """The legend of the types was taken for the steps, 99 % sure."""
    made, kinds, _ = proposed([with_numbered_types(at, listed) for at in range(8)])
    step = made.dialect.step
    assert (step.at, step.operation, step.id) == ("$.graf.noder[*]", "t.kode", "n")
    assert step.scope == ""  # a number of turns is no loop
    assert (
        kinds["timeplan"].trigger == "schedule"
        and kinds["agent"].kind == "agent"
        and kinds["send.epost"].kind == "send"
    )
    assert [rule.refs for rule in made.dialect.catalogue] == [["$.graf.noder[*].t"]]


def test_keys_say_what_stands_under_them() -> None:
    made, kinds, _ = proposed([with_single_keys(at) for at in range(9)])
    assert made.dialect.trigger is not None
    assert (made.dialect.trigger.at, made.dialect.trigger.operation) == ("$.on[*]", "@key")
    assert [kinds[name].trigger for name in ("clock", "poll", "web")] == ["schedule", "polling", "webhook"]
    assert made.dialect.flow.states == {
        "true": "off",
        "false": "on",
    }  # of ‘paused’; it was told the other way round, 99 % sure
    called = kinds["ctl.run-sheet@1"]
    assert (called.kind, called.calls) == ("subflow", "with.sheet")  # a sheet that is read, said its words
    tools = [rule for rule in made.dialect.pointer if rule.at == "with.may_use"]
    assert [(rule.role, rule.reversed) for rule in tools] == [("attach", True)]


def test_ways_within_a_step_are_those_of_a_decision() -> None:
    made, kinds, asked = proposed([with_ways_inside(at) for at in range(8)])
    assert kinds["qd"].kind == "decide" and {rule.at for rule in made.dialect.pointer} == {"saa", "vei"}
    assert made.dialect.trigger is not None
    assert (made.dialect.trigger.at, made.dialect.trigger.operation) == ("$.begynn[*]", "slag")
    assert kinds["kl"].trigger == "schedule" and asked["trigger adr"].answers[0].word == "webhook"
    assert made.dialect.flow.states == {"true": "on", "false": "off"}


def test_connections_beside_the_flows_are_found(tmp_path: Path, run: Run) -> None:
    made, kinds, _ = proposed([whole_space()])
    assert {rule.at for rule in made.dialect.catalogue} == {
        "$.space.conns[*]",
        "$.space.models[*]",
        "$.space.prompts[*]",
    }
    assert made.dialect.step.connection == "in.conn.svc"
    assert kinds["mail.send"].roles == {"to": "recipient", "text": "content"}  # and not the account of the connection
    (tmp_path / "space.json").write_text(json.dumps(whole_space()))
    place = str(tmp_path / "d.toml")
    assert run("dialect", "suggest", str(tmp_path / "space.json"), "-o", place, "-q").code == 0
    listed = json.loads(run("list", "connections", str(tmp_path / "space.json"), "--dialect", place, "-f", "json").out)
    assert [(row["name"], row["steps"]) for row in listed["rows"]] == [("mailbox", 16), ("tables", 8)]
    named = run(
        "inventory", str(tmp_path / "space.json"), "--dialect", place, "--connection", "tables", "-f", "json"
    ).out
    assert len(json.loads(named)["flows"]) == 8


def test_stages_that_take_values_of_each_other_are_one_flow() -> None:
    """They were taken for flows of their own, twice as many as there are."""
    made, kinds, _ = proposed([in_stages(at) for at in range(9)])
    assert made.flows == 9 and made.dialect.flow.at == "$.flux" and made.dialect.step.at == "$.etapes[*].taches[*]"
    assert made.dialect.trigger is not None
    assert (made.dialect.trigger.at, made.dialect.trigger.operation) == ("$.depart", "type")
    assert (kinds["minuterie"].trigger, kinds["minuterie"].cron) == ("schedule", "planning.expression")
    assert kinds["crochet"].trigger == "webhook" and made.dialect.step.retries == "essais"


def test_a_start_of_something_is_what_its_values_tell() -> None:
    """All were asserted to be events, for the word start."""
    made, kinds, asked = proposed([with_starts(at) for at in range(12)])
    assert [kinds[f"start.{name}"].trigger for name in ("zeit", "anruf", "ordner")] == [
        "schedule",
        "webhook",
        "polling",
    ]
    assert (kinds["start.zeit"].every, kinds["start.zeit"].unit) == ("werte.plan.takt", "werte.plan.einheit")
    assert "trigger start.ding" in asked and made.dialect.flow.owners == "zustaendig"


def test_types_may_be_numbers() -> None:
    """The captions were taken for what steps do, 85 different."""
    made, kinds, asked = proposed([with_codes(at) for at in range(10)])
    assert (made.dialect.step.operation, made.dialect.step.name) == ("t", "n")
    assert (kinds["1"].trigger, kinds["3"].kind, kinds["7"].kind) == ("schedule", "model", "http")
    assert asked["kind 9"].answers[0].word == "send"


def test_a_key_of_what_is_off_turns_plain_answers_alone() -> None:
    """ "paused: true" is off; "paused_status: active" is on."""
    documents = [with_single_keys(at) for at in range(9)]
    for at, one in enumerate(documents):
        del one["paused"]
        one["paused_status"] = "inactive" if at % 4 == 0 else "active"
    made, _, _ = proposed(documents)
    assert (made.dialect.flow.state, made.dialect.flow.states) == ("paused_status", {"active": "on", "inactive": "off"})


def test_what_comes_in_over_the_web_is_a_call_from_outside() -> None:
    for operation in ("Web/Incoming", "incoming.http", "request received"):
        assert guess_kinds(operation)[0].trigger == "webhook"
    assert guess_kinds("Inbox/Arrived")[0].trigger == "event"


def test_what_has_no_place_stands_in_the_proposal(tmp_path: Path, run: Run) -> None:
    exports = tmp_path / "exports"
    exports.mkdir()
    for at in range(6):
        document = with_misleading_words(at)
        document["flowsheet"] |= {
            "minder": "Ola Tveit",
            "berths": [[1, 2], [3]],
            "token": "sk-live-4fJ2kQ9xTz81LmN0aWvB7cRd",
        }
        (exports / f"{at}.json").write_text(json.dumps(document))
    ran = run("dialect", "suggest", str(exports), "-o", str(tmp_path / "d.toml"), "-q")
    assert ran.code == 0, ran.err
    text = (tmp_path / "d.toml").read_text()
    end = text[text.index("# No rule touches these") :].splitlines()[1:]
    assert end[:2] == ["# flow: berths.*: 18 values", "# flow: minder: 6 values, such as 'Ola Tveit'"]
    assert "4fJ2kQ9xTz81LmN0aWvB7cRd" not in text
    assert run("inventory", str(exports), "--dialect", str(tmp_path / "d.toml")).code == 0


def test_yaml_with_wires_is_read_as_proposed(tmp_path: Path, run: Run) -> None:
    exports = tmp_path / "exports"
    exports.mkdir()
    for at in range(8):
        (exports / f"{at}.yaml").write_text(yaml.safe_dump(without_words(at), sort_keys=False))
    answers = tmp_path / "answers.toml"
    answers.write_text('[answers]\n"kind ok.xx" = "approve"\n"kind cer.b" = 1\nswitch = 1\nstate = 1\n')
    place = tmp_path / "d.toml"
    assert run("dialect", "suggest", str(exports), "-o", str(place), "--answers", str(answers), "-q").code == 0
    rows = json.loads(run("inventory", str(exports), "--dialect", str(place), "-f", "json").out)["flows"]
    assert {row["id"]: row["state"] for row in rows} == {f"sk{at}": "off" if at % 3 == 1 else "on" for at in range(8)}
