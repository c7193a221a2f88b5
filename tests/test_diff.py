"""Changes of meaning: the demo's two months, every type of change, and noise that is none."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import START, ask, chain, flow, link, step
from conftest import Run, draws, read
from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.estate_changes import estate_changes, flow_changes
from zeitbuch.core.diff.matching import match_steps
from zeitbuch.core.diff.word_diff import word_changes
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import (
    Approval,
    Binding,
    Connection,
    Estate,
    Flow,
    ModelUse,
    Pause,
    Pieces,
    Prompt,
    Ref,
    Repeat,
    Retry,
    Schedule,
    Secret,
    Trigger,
    Variable,
)


def types(old: Flow, new: Flow) -> list[tuple[str, str, str]]:
    found = flow_changes(old, new)
    return [(c.type, c.old, c.new) for c in found.changes if c.edits] if found else []


def test_demo_months_differ_as_they_were_made_to(october: Estate, november: Estate) -> None:
    found = estate_changes(october, november)
    by = {f.name: [(c.type, c.where) for c in f.changes] for f in found.flows}
    assert by == {
        "Lost property matching": [("prompt", "‘Describe the lost item’ (system prompt)")],
        "Passenger announcements": [("model", "‘Translate’")],
        "Customer letters": [("schedule", "the trigger")],
        "Berth delay notices": [
            ("connection", "the flow"),
            ("step added", "‘Put on the boards’ after ‘Send to passengers’, before ‘Log only’"),
        ],
        "Cabin damage claims": [("model", "‘Summarise the claim’")],
        "Invoice intake": [("model", "‘Choose the account’")],
        "Timetable questions": [("prompt", "‘Timetable assistant’ (system prompt)")],
        "Cargo papers screening": [("error route removed", "‘Read the pages’ to ‘Log the fault’")],
    }
    assert found.unchanged == 9, "the moved boxes of the handbook assistant are no change"


BASE = flow(
    [
        ask("a", "Say hello to the passenger.", task="label", max_output=10),
        step("d", "decide", condition="x"),
        step("l", "loop", repeat=Repeat(items="rows")),
        step("h", "http", inputs=(Binding(name="to", value="desk"),), connection="c1", retry=Retry(attempts=1)),
        step("s", "subflow", calls="other"),
    ],
    [
        link("start", "a"),
        link("a", "d"),
        link("d", "l", "case", "yes"),
        link("d", "h", "case", "no"),
        link("h", "s", "error", "on error"),
    ],
    connections=(Connection(id="c1", name="Desk"),),
    variables=(Variable(name="v", value=1),),
)


def changed(step_id: str, **more: Any) -> Flow:
    return structs.replace(BASE, steps=tuple(structs.replace(s, **more) if s.id == step_id else s for s in BASE.steps))


def use(**more: Any) -> ModelUse:
    found = BASE.steps[0].model
    assert found is not None
    return structs.replace(found, **more)


CASES: list[tuple[Flow, str, str, str]] = [
    (structs.replace(BASE, name="New"), "flow renamed", "Flow", "New"),
    (structs.replace(BASE, state="off"), "state", "unknown", "off"),
    (structs.replace(BASE, owners=("Ola",)), "owner", "none", "Ola"),
    (structs.replace(BASE, description="d"), "description", "none", "d"),
    (structs.replace(BASE, unread={"x": 1}), "unread content", "{}", '{"x":1}'),
    (structs.replace(BASE, variables=(Variable(name="v", value=2),)), "variable", "1", "2"),
    (structs.replace(BASE, connections=()), "connection", "Desk", "none"),
    (structs.replace(BASE, triggers=(Trigger(id="start", kind="chat"),)), "trigger", "started by hand", "chat message"),
    (structs.replace(BASE, fault_handlers=("Faults",)), "fault handler", "not stated", "starts Faults"),
    (structs.replace(BASE, concurrency=2), "concurrency", "not stated", "at most 2"),
    (
        structs.replace(BASE, triggers=(Trigger(id="start", kind="manual", authentication="signed header"),)),
        "authentication", "not stated", "signed header",
    ),
    (changed("h", approval=Approval(("Ann",))), "approval", "none", "asks Ann"),
    (changed("h", pause=Pause(seconds=60)), "wait", "none", "for 1 minute"),
    (changed("a", pieces=Pieces(size=400, unit="tokens")), "pieces", "none", "pieces of 400 tokens"),
    (changed("d", ordered=True), "order", "none", "its ways run one after the other, in this order"),
    (changed("h", inputs=(Binding(name="to", value="desk", role="recipient"),)), "input role", "not stated", "recipient"),
    (changed("a", name="Greet"), "step renamed", "A", "Greet"),
    (changed("a", kind="agent"), "kind", "model call", "agent"),
    (changed("a", enabled=False), "enabled", "on", "off"),
    (changed("a", model=use(name="fulmar-large-2")), "model", "fulmar-mini-2", "fulmar-large-2"),
    (changed("a", model=use(temperature=0.5)), "model setting", "none", "0.5"),
    (changed("a", model=use(max_output=99)), "model setting", "10", "99"),
    (changed("a", model=use(prompts=(Prompt(text="Say hello."),))), "prompt", "Say hello to the passenger.", "Say hello."),
    (changed("d", condition="y"), "condition", "x", "y"),
    (changed("d", inclusive=True), "condition", "one", "any"),
    (changed("l", repeat=Repeat(items="all")), "loop", "over rows", "over all"),
    (changed("h", effect="delete"), "effect widened", "none", "delete"),
    (changed("h", connection="c2"), "connection", "Desk", "c2"),
    (changed("h", retry=None), "retry", "tried again 1x", "never tried again"),
    (changed("h", timeout=60.0), "timeout", "none", "1 minute"),
    (changed("h", sample=True), "sample data", "none", "data kept for trying stand in for its result"),
    (changed("h", join="all"), "join", "none", "all"),
    (changed("a", inputs=(Binding(name="key", value="secret A"),)), "input", "none", "secret A"),
    (changed("h", inputs=(Binding(name="to", value="https://harbour.example/x"),)), "endpoint", "desk", "https://harbour.example/x"),
    (changed("h", on_fault="continue"), "on error", "stop", "continue"),
    (changed("h", inputs=(Binding(name="to", value="all"),)), "input", "desk", "all"),
    (changed("h", inputs=(Binding(name="to", value="?", decided="model"),)), "input decider", "fixed: desk", "the model: ?"),
    (changed("h", inputs=(Binding(name="to", value="%x", decided="data", refs=(Ref(step="a", text="%x"),)),)), "input decider", "fixed: desk", "data: ‘A’: ‘A’"),
    (changed("h", scope="l"), "scope", "no scope", "L"),
    (changed("h", note="n"), "note", "none", "n"),
    (changed("h", operation="o"), "other setting", "none", "o"),
    (changed("h", unread={"q": 1}), "unread content", "{}", '{"q":1}'),
    (changed("s", calls="third"), "called flow", "other", "third"),
    (structs.replace(BASE, links=BASE.links[:-1]), "error route removed", "on error", ""),
    (structs.replace(BASE, links=(*BASE.links, link("l", "s", "error"))), "error route added", "", "link"),
    (structs.replace(BASE, links=(*BASE.links, link("l", "s"))), "link added", "", "link"),
    (structs.replace(BASE, links=(*BASE.links[:2], link("d", "l", "case", "maybe"), *BASE.links[3:])), "case", "yes", "maybe"),
    (structs.replace(BASE, links=(*BASE.links[:2], link("d", "l", "case", "yes", condition="n > 2"), *BASE.links[3:])), "condition", "yes", "yes / n > 2"),
    (structs.replace(BASE, links=(*BASE.links[:3], link("d", "s", "case", "no"), BASE.links[4])), "link rewired", "‘H’", "‘S’"),
    (structs.replace(BASE, environment="live"), "environment", "none", "live"),
    (structs.replace(BASE, folder="Post"), "flow moved", "none", "Post"),
    (structs.replace(BASE, triggers=(structs.replace(START, name="Go"),)), "trigger renamed", "none", "Go"),
    (structs.replace(BASE, triggers=(structs.replace(START, condition="x > 1"),)), "trigger condition", "none", "x > 1"),
    (structs.replace(BASE, triggers=(structs.replace(START, batch=5),)), "batch", "no limit stated", "up to 5 at a time"),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=lambda c: c[1])
def test_each_change_is_one_change(case: tuple[Flow, str, str, str]) -> None:
    new, kind, before, after = case
    assert types(BASE, new) == [(kind, before, after)]
    ((_, back_before, back_after),) = types(new, BASE)
    assert (back_after, back_before) == (before, after) or kind.startswith(("error", "link", "endpoint"))


def test_added_and_removed_steps_and_schedules() -> None:
    old, new = chain(step("a"), step("b")), chain(step("a"), step("x", "send", effect="send"), step("b"))
    assert [c[0] for c in types(old, new)] == ["step added"]
    assert [c[0] for c in types(new, old)] == ["step removed"]
    at = [
        chain(
            step("a"), triggers=(Trigger(id="start", kind="schedule", schedule=Schedule(cron=c, zone="Europe/Oslo")),)
        )
        for c in ("0 10 * * 1-5", "*/5 * * * *")
    ]
    assert types(*at) == [("schedule", "on weekdays at 10:00 (Europe/Oslo)", "every 5 minutes (Europe/Oslo)")]


def test_rights_and_approvals_are_told_when_they_change() -> None:
    old = flow(
        [
            step("a", "approve"),
            step("d", "decide"),
            step("p", "http", effect="spend"),
            step("x", "read", effect="read"),
        ],
        [link("start", "a"), link("a", "d"), link("d", "p", "case", "yes"), link("d", "x", "case", "no")],
    )
    bypass = structs.replace(old, links=(*old.links, link("start", "p")))
    found = flow_changes(old, bypass)
    assert found is not None
    assert [(c.type, c.weight) for c in found.changes] == [("link added", "meaning"), ("approval bypassed", "risk")]
    assert found.changes[1].old == "always before ‘P’"
    gone = structs.replace(
        old,
        steps=old.steps[1:],
        links=(link("start", "d"), *old.links[2:]),
    )
    assert [c[0] for c in types(old, gone)] == ["approval removed"]
    off = structs.replace(old, steps=(structs.replace(old.steps[0], enabled=False), *old.steps[1:]))
    assert [c[0] for c in types(old, off)] == ["approval removed"]
    # Turned into another kind of step nobody is asked either; each time the acts that lost their approval are named.
    other = structs.replace(old, steps=(structs.replace(old.steps[0], kind="shape"), *old.steps[1:]))
    assert types(old, other) == [("approval removed", "approval by a person", "data shaping")]
    for new in (gone, off, other):
        found = flow_changes(old, new)
        assert found is not None and found.changes[0].remarks == ("nobody approves ‘P’ any more",)
    # What is not reached any more needs no approval: it is bypassed by nothing.
    dead = structs.replace(old, links=tuple(one for one in old.links if one.target != "p"))
    assert [c[0] for c in types(old, dead)] == ["link removed"]
    # Where another approval stands before the act, somebody is asked still.
    second = structs.replace(
        old,
        steps=(*old.steps, step("b", "approve")),
        links=(*old.links[:2], link("d", "b", "case", "yes"), link("b", "p"), old.links[3]),
    )
    still = structs.replace(second, steps=second.steps[1:], links=(link("start", "d"), *second.links[2:]))
    found = flow_changes(second, still)
    assert found is not None and [c.remarks for c in found.changes if c.type == "approval removed"] == [()]
    # Asked on one of two ways still: not nobody, but not always.
    fork = [*old.links[:3], link("d", "b", "case", "no"), link("b", "p")]
    half = structs.replace(old, steps=(*old.steps, step("b", "approve")), links=tuple(fork))
    one_way = structs.replace(half, steps=half.steps[1:], links=(link("start", "d"), *half.links[2:]))
    found = flow_changes(half, one_way)
    assert found is not None
    assert [c.remarks for c in found.changes if c.type == "approval removed"] == [
        ("‘P’ is reached without an approval too",)
    ]
    wider = structs.replace(old, steps=(*old.steps[:3], structs.replace(old.steps[3], effect="delete")))
    found = flow_changes(old, wider)
    assert found is not None
    assert [(c.type, c.remarks) for c in found.changes] == [
        ("effect widened", ()),
        ("rights widened", ("now deletes",)),
    ]
    found = flow_changes(wider, old)
    assert found is not None and [c.type for c in found.changes] == ["effect narrowed", "rights widened"]
    less = structs.replace(old, steps=(*old.steps[:3], structs.replace(old.steps[3], effect="none")))
    found = flow_changes(old, less)
    assert found is not None and [c.type for c in found.changes] == ["effect narrowed", "rights narrowed"]


@pytest.mark.parametrize(
    ("digest", "kinds"), [("0a", []), ("0b", [("secret", "secret A", "secret B")]), ("", [])],
    ids=["the same", "another", "not known"],
)  # fmt: skip
def test_a_secret_that_changed_is_told_without_a_trace_of_it(digest: str, kinds: list[tuple[str, str, str]]) -> None:
    a, b = (
        structs.replace(
            chain(step("h", "http", inputs=(Binding(name="head", value={"x": "Bearer secret A"}),))),
            secrets=(Secret(name="secret A", tokens=5, digest=mark),),
        )
        for mark in ("0a", digest)
    )
    assert types(a, b) == kinds
    assert fingerprint(a) == fingerprint(b)


def test_a_secret_that_came_before_others_renames_nothing() -> None:
    """Labels go by the order in a flow; versions are compared with their labels made to agree."""
    old = chain(step("h", "http", inputs=(Binding(name="key", value="secret A"),)))
    new = chain(
        step("h", "http", inputs=(Binding(name="first", value="secret A"), Binding(name="key", value="secret B")))
    )
    old = structs.replace(old, secrets=(Secret(name="secret A", digest="0a"),))
    new = structs.replace(new, secrets=(Secret(name="secret A", digest="0b"), Secret(name="secret B", digest="0a")))
    assert types(old, new) == [("input", "none", "secret B")]


def test_order_scope_and_swap_are_one_change_each() -> None:
    names = ["a", "b", "c", "d", "e"]
    old = chain(*[step(n) for n in names])
    assert types(old, chain(*[step(n) for n in "acdbe"])) == [
        ("step moved", "after ‘A’, before ‘C’", "after ‘D’, before ‘E’")
    ]
    loop = flow(
        [*[step(n) for n in "ab"], step("l", "loop", repeat=Repeat(items="rows")), step("c", scope="l")],
        [link("start", "a"), link("a", "b"), link("b", "l")],
    )
    into = structs.replace(
        loop,
        steps=(loop.steps[0], structs.replace(loop.steps[1], scope="l"), *loop.steps[2:]),
        links=(link("start", "a"), link("a", "l"), link("c", "b")),
    )
    assert types(loop, into) == [("scope", "no scope", "L")]


def test_prompts_say_what_a_reviewer_asks_first() -> None:
    english = (
        "You answer the letters of passengers in a friendly tone. Name the ship and the day, and never promise money."
    )
    norwegian = (
        "Du svarer på brev fra passasjerer i en vennlig tone. Nevn skipet og dagen, og lov aldri penger tilbake."
    )
    found = flow_changes(chain(ask("a", english)), chain(ask("a", norwegian)))
    assert found is not None
    (one,) = found.changes
    assert "language of instruction English → Danish or Norwegian" in one.remarks

    def filled(ref: str) -> Flow:
        use = ModelUse(name="m", prompts=(Prompt(text=f"Answer %{ref}% now.", refs=(Ref(step=ref, text=f"%{ref}%"),)),))
        return chain(step("x"), step("y"), step("a", "model", model=use))

    found = flow_changes(filled("x"), filled("y"))
    assert found is not None
    assert found.changes[0].remarks[:2] == ("now filled with ‘Y’", "no longer filled with ‘X’")
    assert "".join(w.text for w in found.changes[0].words if w.mark == "new") == "Y"


def test_every_type_has_a_case(demo: Path) -> None:
    tried = {c[1] for c in CASES} | {
        "step added", "step removed", "schedule", "flow added", "flow removed", "step moved", "link removed", "scope",
        "secret", "rights widened", "rights narrowed", "effect narrowed", "approval removed", "approval bypassed",
        "trigger added", "trigger removed", "flow split", "flows merged", "outcomes", "approval outcome",
    }  # fmt: skip
    assert tried == set(CHANGE_KINDS)


def test_links_that_only_go() -> None:
    two = structs.replace(BASE, links=(*BASE.links, link("l", "s")))
    assert [c[0] for c in types(two, BASE)] == ["link removed"]


def test_triggers_come_and_go() -> None:
    more = structs.replace(BASE, triggers=(*BASE.triggers, Trigger(id="t2", kind="chat")))
    assert types(BASE, more) == [("trigger added", "none", "chat message")]
    assert types(more, BASE) == [("trigger removed", "chat message", "none")]


@pytest.mark.parametrize(
    ("target", "said"),
    [
        ("drop", ("‘Third?’ (third) leads to ‘Drop’ now", "nobody approves ‘Drop’ any more", "‘Mail’ no longer follows it")),
        (
            "mail",
            (
                "‘Third?’ (third) leads to ‘Mail’ now", "nobody approves ‘Mail’ any more",
                "nothing leads to ‘Drop’ any more: it begins with ‘Each’, and nobody approves it",
            ),
        ),
    ],
)  # fmt: skip
def test_two_opposite_ways_to_take_an_approval_away_read_otherwise(target: str, said: tuple[str, ...]) -> None:
    inner: list[Any] = [
        step("third", "decide", name="Third?"),
        step("ok", "approve"),
        step("mail", "send", effect="send"),
        step("drop", "write", effect="write"),
    ]
    inner = [structs.replace(one, scope="each") for one in inner]
    links = [
        link("start", "each"), link("third", "ok", "case", "third"), link("third", "mail", "case", "first"),
        link("ok", "mail", "case", "approved"), link("ok", "drop", "case", "refused"),
    ]  # fmt: skip
    old = flow([step("each", "loop"), *inner], links)
    new = flow(
        [step("each", "loop"), inner[0], *inner[2:]], [links[0], links[2], link("third", target, "case", "third")]
    )
    found = flow_changes(old, new)
    assert found is not None
    (change,) = [one for one in found.changes if one.type == "approval removed"]
    assert change.remarks == said


def test_splits_and_merges() -> None:
    parts = [chain(*[step(f"{p}{i}", name=f"{p} {i}") for i in range(4)], id=p, name=p) for p in "xy"]
    whole = chain(*[s for p in parts for s in p.steps], id="x", name="x")
    found = estate_changes(Estate((whole,)), Estate(tuple(parts)))
    assert {f.name: f.changes[0].new for f in found.flows} == {"x": "part of it is now ‘y’", "y": "a flow of its own"}
    found = estate_changes(Estate(tuple(parts)), Estate((whole,)))
    assert {(f.name, f.status): f.changes[0].new for f in found.flows} == {
        ("y", "removed"): "part of ‘x’", ("x", "changed"): "holds what was ‘y’",
    }  # fmt: skip


def test_flows_that_came_and_went() -> None:
    found = estate_changes(
        Estate(flows=(chain(step("a"), id="x", name="X"),)), Estate(flows=(chain(step("a"), id="y", name="Y"),))
    )
    assert [(f.status, f.name) for f in found.flows] == [("removed", "X"), ("added", "Y")]


def test_renewed_ids_are_no_change() -> None:
    old = flow([step("a", "http", name="Fetch"), step("b", "send", name="Tell")], [link("a", "b")])
    new = flow([step("n1", "http", name="Fetch"), step("n2", "send", name="Tell")], [link("n1", "n2")])
    found = match_steps(old, new)
    assert [(p.old, p.new) for p in found.steps] == [("a", "n1"), ("b", "n2")] and not found.removed and not found.added
    assert flow_changes(old, new) is None


STAMPS = {"stamped", "changed", "saved", "touched", "made"}


def exported_again(value: Any, deep: int = 0) -> Any:
    """Keys in another order, other time stamps, boxes elsewhere: what an export may differ in without meaning it."""
    if isinstance(value, dict):
        found = {k: exported_again(v, deep + 1) for k, v in reversed(value.items())}
        for key in found:
            if key in STAMPS and isinstance(found[key], str) and found[key][:2] == "20":
                found[key] = "2027-01-01T00:00:00Z"
            elif key == "spot":
                found[key] = {"y": 1, "x": 2}
            elif key == "at" and isinstance(found[key], list):
                found[key] = [7, 9]
            elif key == "canvas":
                found[key] = {"zoom": 3}
        return found
    return [exported_again(v, deep + 1) for v in value] if isinstance(value, list) else value


def test_reexport_without_change_is_no_change(demo: Path, run: Run) -> None:
    import yaml
    from lxml import etree

    stamped = moved = 0
    for path in (demo / "november").rglob("*.*"):
        copy = demo / "again" / path.relative_to(demo / "november")
        copy.parent.mkdir(parents=True, exist_ok=True)
        text = path.read_text()
        if path.suffix == ".json":
            text = json.dumps(exported_again(json.loads(text)), indent=3, ensure_ascii=True)
        elif path.suffix == ".yaml":
            again = exported_again(yaml.safe_load(text))
            text = yaml.safe_dump(again, sort_keys=False, default_flow_style=False, indent=5, width=60)
        else:
            tree = etree.fromstring(text.encode())
            for element in tree.iter("*"):
                for key, value in sorted(element.attrib.items(), reverse=True):
                    del element.attrib[key]
                    element.set(key, value)
            etree.indent(tree, space="\t")
            text = etree.tostring(tree, encoding="unicode")
        stamped += "2027-01-01" in text
        moved += '"spot"' in text or '"at": [' in text
        assert text != path.read_text(), path
        copy.write_text(text)
    assert stamped >= 10 and moved >= 4
    status, out, _ = run("diff", "november", "again", cwd=demo)
    assert (status, out) == (0, "No change of meaning; 17 flows compared.\n")


def test_a_diagram_that_was_moved_is_no_change(demo: Path, run: Run) -> None:
    assert run("convert", "november", "-o", "a.bpmn", cwd=demo).code == 0
    text = (demo / "a.bpmn").read_text()
    (demo / "b.bpmn").write_text(text.replace(' x="', ' x="9').replace(' y="', ' y="7'))
    assert (demo / "b.bpmn").read_text().count('x="9') > 100
    ran = run("diff", "a.bpmn", "b.bpmn", cwd=demo)
    assert (ran.code, ran.out) == (0, "No change of meaning; 17 flows compared.\n")


def test_a_flow_that_moved_between_packages_is_told(demo: Path, run: Run) -> None:
    import zipfile

    def packed(folder: str, **packages: list[str]) -> None:
        (demo / folder).mkdir()
        for name, files in packages.items():
            with zipfile.ZipFile(demo / folder / f"{name}.zip", "w") as z:
                for f in files:
                    z.write(demo / "november" / f, Path(f).name)

    one, two, three = "kvarte/letters.json", "strandline/berth-delay.json", "strandline/lost-property.json"
    packed("old", post=[one, two], desk=[three])
    packed("new", post=[one], desk=[three, two])
    packed("renamed", mail=[one, two], counter=[three])
    ran = run("diff", "old", "new", cwd=demo)
    assert ran.code == 1 and "flow moved: the flow's package: post.zip → desk.zip" in ran.out
    assert "1 flow changed, 2 unchanged" in ran.out
    assert run("diff", "old", "renamed", cwd=demo).code == 0


def test_gates_decide_the_exit_status(demo: Path, run: Run) -> None:
    def status(*words: str) -> tuple[int, str]:
        ran = run("diff", "october", "november", *words, cwd=demo)
        return ran.code, ran.err

    assert status("--fail-on", "risk", "--only", "note")[0] == 0
    code, said = status("--fail-on", "cost")
    assert code == 1 and "'Customer letters': 2.6863 → 10.7453 EUR per month" in said and "announcements" not in said
    assert status("--max-increase", "400%")[0] == 0
    code, said = status("--max-increase", "150%")
    assert code == 1 and "Invoice intake" in said and "Customer letters" in said and "Cabin" not in said
    code, said = status("--max-increase", "5")
    assert code == 1 and "the changed flows together" in said
    assert status("--max-increase", "10")[0] == 0
    code, said = status("--only", "trigger,prompt", "--fail-on", "risk")
    assert code == 1 and said.count("no: ") == 3
    for words, message in (
        (("--only", "colour"), "expected topics of flow, trigger"),
        (("--max-increase", "much"), "expected --max-increase PERCENT% or AMOUNT"),
        (("-f", "csv"), "expected --summary beside csv"),
        (("--clones",), "expected one source beside --clones"),
    ):
        code, said = status(*words)
        assert code == 2 and message in said
    (demo / "zeitbuch.toml").write_text('dialects = ["dialects/*.toml"]\n')
    code, said = status("--fail-on", "cost")
    assert code == 2 and "[rates-none]" in said


def test_summary_and_page_of_the_program(demo: Path, run: Run) -> None:
    import csv
    import io

    ran = run("diff", "october", "november", "--summary", "-f", "csv", cwd=demo)
    rows = list(csv.DictReader(io.StringIO(ran.out)))
    by_name = {row["flow"]: row for row in rows}
    assert len(rows) == 8 and float(by_name["Customer letters"]["month_after"]) > 10
    assert run("diff", "october", "november", "-o", "x.html", cwd=demo).code == 1
    page = (demo / "x.html").read_text()
    assert page.count("Both versions in one map") == 8 and "<ins>" in page and "<script" not in page
    assert ">ADDED</text>" in page and ">failed: removed</text>" in page and ">changed: prompt</text>" in page
    evidence = run("diff", "october", "november", "--flow", "SH-1052", "--evidence", cwd=demo).out
    assert "@ november/strandline/berth-delay.json#/sheet/stations/7" in evidence
    assert "0.53 EUR per month for models as before" in evidence  # though the flow that calls it is not shown


def test_copies_and_what_was_forgotten(demo: Path, run: Run) -> None:
    ran = run("diff", "copies", "--clones", cwd=demo)
    assert ran.code == 1 and "(input copy) still says ‘Halvorsund’, which became ‘Skarvik’ in 7" in ran.out
    (group,) = json.loads(run("diff", "copies", "--clones", "-f", "json", cwd=demo).out)["groups"]
    assert (group["sort"], len(group["copies"]), len(group["copies"][0]["left"])) == ("branch", 1, 1)
    path = demo / "copies" / "mooring-plans.yaml"
    head, _, tail = path.read_text().rpartition("harbour master of Halvorsund")
    path.write_text(f"{head}harbour master of Skarvik{tail}")
    ran = run("diff", "copies", "--clones", "-f", "markdown", cwd=demo)
    assert ran.code == 0 and "still says" not in ran.out and "**Skarvik**" in ran.out
    ran = run("diff", "november", "--clones", cwd=demo)
    assert ran.code == 0 and ran.out.startswith(
        "No copies found. 1 word that flows hand to each other; 0 not written alike."
    )


def test_clones_of_whole_flows_and_prompts() -> None:
    from scripts import made_flow
    from zeitbuch.core.diff.clones import detect_clones

    flows = [structs.replace(made_flow(s), id=f"f{s}", name=f"F {s}") for s in range(12)]
    assert not detect_clones(flows)
    copy = structs.replace(flows[3], id="copy", name="Copy")
    (found,) = detect_clones([*flows, copy])
    (pair,) = found.copies
    assert (found.sort, pair.a.flow, pair.b.flow, pair.changes) == ("flow", "f3", "copy", ())
    text = (
        "You sort the letters of the ferry line by ship and by matter, and you never answer them yourself in any case."
    )
    a = chain(ask("x", text), step("r", "read"), id="a", name="A")
    b = chain(step("w", "wait"), step("s", "send"), ask("y", text, kind="agent"), id="b", name="B")
    (found,) = detect_clones([a, b])
    assert found.sort == "prompt" and found.likeness == 1.0


def test_diff_of_the_program(demo: Path, run: Run) -> None:
    status, out, err = run("diff", "october", "november", cwd=demo)
    assert status == 1 and err == ""
    assert "describe the «+one» item" in out.replace("\n      | ", " ")
    assert "every hour → every 15 minutes" in out and "2.69 → 10.75 EUR per month" in out
    status, out, _ = run("diff", "october", "november", "-f", "json", cwd=demo)
    assert status == 1 and json.loads(out)["changed"] is True
    assert run("diff", "october", "nowhere", cwd=demo).code == 2
    markdown = run("diff", "october", "november", "-f", "markdown", cwd=demo).out
    assert "describe the **one** item" in markdown
    assert run("diff", "october", "november", "-o", "x.odt", cwd=demo).code == 2


WORDS = st.lists(
    st.sampled_from(["the", "a", "ship,", "berth.", "Now\n", "late", "of", "ist", "été", "12", ""]), max_size=30
).map(" ".join)


@settings(max_examples=draws(80), deadline=None)
@given(WORDS, WORDS)
def test_word_changes_hold_both_texts(old: str, new: str) -> None:
    pieces = word_changes(old, new)
    assert "".join(p.text for p in pieces if p.mark != "new") == old
    assert "".join(p.text for p in pieces if p.mark != "old") == new


def test_word_changes_are_readable() -> None:
    pieces = word_changes("Write a short answer to the passenger now.", "Write a long reply to the passenger now.")
    assert [(p.mark, p.text) for p in pieces] == [
        ("same", "Write a "), ("old", "short answer"), ("new", "long reply"), ("same", " to the passenger now."),
    ]  # fmt: skip


def test_two_reads_of_the_same_files_are_equal(demo: Path) -> None:
    assert read(demo, "november") == read(demo, "november")


def test_how_items_go_and_what_an_end_ends_are_changes_of_meaning() -> None:
    from builders import chain, step
    from zeitbuch.core.diff.estate_changes import estate_changes
    from zeitbuch.core.model.records import Estate

    old = chain(step("r", "read"), step("p", "http"), step("x", "end"))
    new = chain(step("r", "read", yields="many"), step("p", "http", per_item=True), step("x", "end", ends="run"))
    (found,) = estate_changes(Estate((old,)), Estate((new,))).flows
    said = {(c.where, c.old, c.new) for c in found.changes}
    assert {(o, n) for _, o, n in said} == {
        ("as they come", "each made into several"),
        ("once a pass", "once an item"),
        ("its branch", "the run"),
    }
