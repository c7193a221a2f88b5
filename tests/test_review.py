# ruff: noqa: E501  (cases are easier to compare side by side)
"""Signatures in the book: what they hold for, what makes them stale, who may give them, and gates."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from conftest import Run
from test_checks import flow, step
from zeitbuch.app import review_judging
from zeitbuch.app.review import review_status
from zeitbuch.app.review_judging import rights_around
from zeitbuch.app.session import Session
from zeitbuch.book.reviews import Review, add_review
from zeitbuch.book.store import Book
from zeitbuch.core.model.records import Connection, Estate
from zeitbuch.core.report.blocks import Bullets, Heading, Paragraph, Signatures
from zeitbuch.core.report.review_states import FlowReview, ReviewRules, RoleReview, RoleRule, worst_state
from zeitbuch.core.report.sign_off import sign_off_blocks
from zeitbuch.readers.config.workspace import active_dialects, load_workspace


@pytest.fixture
def recorded(demo: Path, run: Run) -> Path:
    assert run("record", cwd=demo).code == 0
    return demo


def sign(run: Run, folder: Path, name: str, role: str, by: str, *more: str) -> Any:
    return run("review", "sign", name, "--role", role, "--by", by, *more, cwd=folder)


def states(run: Run, folder: Path) -> dict[str, str]:
    return {
        one["id"]: one["state"] for one in json.loads(run("review", "status", "-f", "json", cwd=folder).out)["flows"]
    }


def test_all_flows_signed_boxes_moved_and_a_prompt_changed(recorded: Path, run: Run) -> None:
    ids = list(states(run, recorded))
    assert len(ids) == 17 and set(states(run, recorded).values()) == {"open"}
    for key in ids:
        assert sign(run, recorded, key, "owner", "Maren Dahl").code == 0
        assert sign(run, recorded, key, "auditor", "Ola Tveit").code == 0
    assert set(states(run, recorded).values()) == {"valid"} and run("review", "verify", cwd=recorded).code == 0
    letters = recorded / "november" / "strandline" / "berth-delay.json"
    text = letters.read_text()
    moved = json.loads(text)
    for station in moved["sheet"]["stations"]:
        if "spot" in station:
            station["spot"] = {"x": 999, "y": 1}
    letters.write_text(json.dumps(moved))
    assert set(states(run, recorded).values()) == {"valid"}
    assert text.count("minor (under 15 minutes)") == 1
    letters.write_text(text.replace("minor (under 15 minutes)", "minor (under 10 minutes)"))
    now = states(run, recorded)
    assert now["SH-1052"] == "stale" and list(now.values()).count("valid") == 16
    ran = run("review", "verify", cwd=recorded)
    assert ran.code == 1 and "no: Berth delay notices: owner: stale (prompt: ‘How bad is it?’" in ran.err
    letters.write_text(text)
    assert set(states(run, recorded).values()) == {"valid"}  # the state that was signed has its signatures back


def test_what_many_signatures_ask_is_looked_up_once(recorded: Path, run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    """Who calls whom, and what was recorded: for all flows together, however many are signed and stale."""
    settings = load_workspace(str(recorded / "zeitbuch.toml"))
    session = Session(settings, active_dialects(settings, []), book=str(recorded / "book.sqlite"), cache=False)
    estate = session.estate([str(recorded / "november")])
    with Book(session.book).writing() as writing:
        for version in writing.versions():
            rights = next(rights_around(estate, one) for one in estate.flows if one.id == version.id)
            review = Review(
                "sign", version.flow, version.number, version.fingerprint, "owner", "approved", rights=rights
            )
            add_review(writing, review, at="2026-11-29T08:00:00Z", who="A", note="", version=version)
    looks: list[str] = []
    for name in ("calls_of", "flows_of_versions"):
        plain = getattr(review_judging, name)
        monkeypatch.setattr(review_judging, name, lambda *args, n=name, f=plain: (looks.append(n), f(*args))[1])
    assert {one.state for one in review_status(session, estate, "2026-11-30").flows} == {"open"}  # one of two roles
    assert looks == ["calls_of"]
    changed = Estate(tuple(structs.replace(one, description="another") for one in estate.flows))
    found = review_status(session, changed, "2026-11-30")
    assert {one.roles[0].state for one in found.flows} == {"stale"} and looks == ["calls_of", "flows_of_versions"]


def test_who_may_sign(recorded: Path, run: Run) -> None:
    assert sign(run, recorded, "letters", "owner", "Sanna Brekke").code == 0
    same = sign(run, recorded, "letters", "auditor", "sanna brekke")
    assert same.code == 2 and "expected another person than Sanna Brekke" in same.err
    role = sign(run, recorded, "letters", "cook", "Ola Tveit")
    assert (
        role.code == 2 and "expected one of the roles owner, auditor for 'Customer letters', found 'cook'" in role.err
    )
    for more, said in (
        (["--until", "tomorrow"], "expected a day"),
        (["--until", "2020-01-01"], "expected a day after today"),
    ):
        assert said in sign(run, recorded, "letters", "auditor", "Ola Tveit", *more).err
    assert "expected FLOW and --role" in run("review", "sign", "letters", cwd=recorded).err
    assert run("review", "sign", "nobody", "--role", "owner", cwd=recorded).code == 2
    path = recorded / "november" / "kvarte" / "letters.json"
    path.write_text(path.read_text().replace("Apologise once", "Never apologise"))
    other = sign(run, recorded, "letters", "auditor", "Ola Tveit")
    assert other.code == 2 and "found another state in the sources" in other.err and "zeitbuch record" in other.err


def test_verdicts_ends_requests_and_withdrawals(recorded: Path, run: Run) -> None:
    assert (
        sign(
            run, recorded, "letters", "owner", "Sanna Brekke", "--verdict", "with-changes", "--note", "limit to 100"
        ).code
        == 0
    )
    assert sign(run, recorded, "letters", "auditor", "Ola Tveit").code == 0
    assert states(run, recorded)["letters"] == "with changes"
    assert run("review", "withdraw", "letters", "--role", "owner", "--by", "Sanna Brekke", cwd=recorded).code == 0
    assert states(run, recorded)["letters"] == "open"
    assert "expected a signature" in run("review", "withdraw", "letters", "--role", "owner", cwd=recorded).err
    assert (
        "is asked for by Sanna"
        in run("review", "request", "letters", "--role", "owner", "--by", "Sanna", cwd=recorded).out
    )
    assert sign(run, recorded, "letters", "owner", "Sanna Brekke", "--verdict", "refused").code == 0
    assert states(run, recorded)["letters"] == "refused"
    assert sign(run, recorded, "letters", "owner", "Sanna Brekke", "--until", "2999-01-01").code == 0
    assert states(run, recorded)["letters"] == "valid"
    rows = json.loads(run("review", "status", "-f", "json", cwd=recorded).out)["flows"]
    assert [role["until"] for one in rows if one["id"] == "letters" for role in one["roles"]] == ["2999-01-01", ""]
    assert "17 flows: 1 valid and 16 open." in run("review", "status", cwd=recorded).out


def test_a_flow_that_is_not_recorded_is_open(demo: Path, run: Run) -> None:
    run("record", "november/kvarte", cwd=demo)
    rows = {one["id"]: one for one in json.loads(run("review", "status", "-f", "json", cwd=demo).out)["flows"]}
    assert rows["letters"]["recorded"] == 1 and rows["SH-1052"]["recorded"] == 0 and rows["SH-1052"]["state"] == "open"


def section(folder: Path, name: str) -> str:
    """The sign-off of a page."""
    return (folder / name).read_text().partition("## Sign-off\n")[2].partition("\n## ")[0]


def test_the_sheet_says_who_signed_and_what_changed_since(recorded: Path, run: Run) -> None:
    settings = recorded / "zeitbuch.toml"
    settings.write_text(settings.read_text() + '\n[review.sentences]\nauditor = "Seen | held against the export."\n')
    documents = ["document", "--flow", "SH-1052", "-f", "markdown", "-o", "pages", "-q"]
    page = "sh-1052.md"
    assert run(*documents, cwd=recorded).code == 0
    assert "| owner | I have read this and answer for it. |  |  |  |  |" in section(recorded / "pages", page)
    assert sign(run, recorded, "SH-1052", "owner", "Maren Dahl", "--until", "2999-01-01").code == 0
    assert (
        sign(
            run, recorded, "SH-1052", "auditor", "Ola | Tveit", "--verdict", "with-changes", "--note", "limit <b>"
        ).code
        == 0
    )
    assert run(*documents, cwd=recorded).code == 0
    said = section(recorded / "pages", page)
    assert "| approved, until 2999-01-01 | in the book |" in said and "| Maren Dahl |" in said
    assert (
        r"| auditor | Seen \| held against the export. | Ola \| Tveit |" in said and "| approved with changes |" in said
    )
    assert r"Said by Ola \| Tveit as auditor: limit \<b\>" in said
    letters = recorded / "november" / "strandline" / "berth-delay.json"
    letters.write_text(letters.read_text().replace("minor (under 15 minutes)", "minor (under 10 minutes)"))
    assert run(*documents, cwd=recorded).code == 0
    said = section(recorded / "pages", page)
    assert "Signed by Maren Dahl as owner on " in said and r"and Ola \| Tveit as auditor on " in said
    assert (
        said.count("prompt: ‘How bad is it?’") == 1
        and "| owner | I have read this and answer for it. |  |  |  |  |" in said
    )
    assert run("document", "--flow", "SH-1052", "-o", "page.docx", cwd=recorded).code == 0
    html = run("document", "--flow", "SH-1052", "-o", "html", cwd=recorded)
    assert html.code == 0 and "Ola | Tveit" in (recorded / "html" / "sh-1052.html").read_text()


def test_lines_of_the_sign_off() -> None:
    found = FlowReview("a", "A", "expired", (
        RoleReview("owner", "expired", "Maren", "2026-01-02T00:00:00Z", "2026-02-01"),
        RoleReview("auditor", "refused", "Ola", "2026-01-03T00:00:00Z", note="not so"),
        RoleReview("buyer", "stale", "Ida", "2026-01-04T00:00:00Z", why=tuple(f"c{n}" for n in range(15))),
    ))  # fmt: skip
    heading, *said, signatures = sign_off_blocks("f" * 64, found, {})
    assert isinstance(heading, Heading) and isinstance(signatures, Signatures)
    assert [one.verdict for one in signatures.lines] == ["", "refused", ""]
    assert [one.sentence for one in signatures.lines][2] == "I have read this and agree to it."
    texts = [one.text for one in said if isinstance(one, Paragraph)]
    assert texts[0] == "Said by Ola as auditor: not so"
    assert texts[1] == "The signature of Maren as owner, of 2026-01-02, held until 2026-02-01."
    assert texts[2] == "Signed by Ida as buyer on 2026-01-04. Since then:"
    assert isinstance(said[-1], Bullets) and len(said[-1].items) == 13 and said[-1].items[-1] == "3 more changes"
    assert len(sign_off_blocks("f", None, {})) == 2


def test_a_book_that_cannot_be_read_is_told_and_the_pages_are_written(demo: Path, run: Run) -> None:
    (demo / "book.sqlite").write_bytes(b"no database at all" * 99)
    ran = run("document", "--flow", "letters", "-o", "pages", cwd=demo)
    assert "book.sqlite" in ran.err and (demo / "pages" / "letters.html").exists()


def test_roles_of_the_house(recorded: Path, run: Run) -> None:
    path = recorded / "zeitbuch.toml"
    path.write_text(
        path.read_text() + '\n[review]\nroles = ["owner"]\n[[review.rule]]\nrole = "treasurer"\neffect = "spend"\n'
    )
    for key in ("letters", "SH-1052"):
        assert sign(run, recorded, key, "owner", "Sanna Brekke").code == 0
    assert {key: states(run, recorded)[key] for key in ("letters", "SH-1052")} == {
        "letters": "open",
        "SH-1052": "valid",
    }
    assert (
        sign(run, recorded, "letters", "treasurer", "Ivar Lunde").code == 0
        and states(run, recorded)["letters"] == "valid"
    )
    spends = flow(step("a", effect="spend"), folder="Till / North")
    rules = ReviewRules(
        rule=[
            RoleRule("a", folder="Till*"),
            RoleRule("b", owner="*dahl"),
            RoleRule("c", effect="delete"),
            RoleRule("d", flow="x*"),
        ]
    )
    assert rules.roles_for(spends) == ["owner", "auditor", "a", "b"]
    assert worst_state([RoleReview("a", "valid"), RoleReview("b", "stale"), RoleReview("c", "open")]) == "stale"


def test_a_called_flow_counts_by_its_rights_only() -> None:
    mail = (Connection(id="c", name="Office mail"),)
    caller = flow(step("s", "subflow", calls="b"), id="a")
    reads, sends = (
        flow(step("x", effect=effect, connection="c"), id="b", name="B", connections=mail)
        for effect in ("read", "send")
    )
    far = flow(step("s", "subflow", calls="b"), id="c", name="C")
    assert rights_around(Estate((caller, reads)), caller) == () and rights_around(Estate((caller, sends)), caller) == (
        "send through Office mail",
    )
    beyond = flow(step("s", "subflow", calls="c"), id="d", name="D")
    assert rights_around(Estate((beyond, far, sends)), beyond) == ("send through Office mail",)
    # Of two flows with one id either may be meant: what one of them may do counts.
    twin = structs.replace(caller, steps=(structs.replace(caller.steps[0], id="other", calls=""),), links=())
    assert rights_around(Estate((twin, caller, sends)), caller) == ("send through Office mail",)
    # Neither what a call that is off leads to, nor what stands in a block that is off.
    off = structs.replace(far, steps=(structs.replace(far.steps[0], enabled=False),))
    assert rights_around(Estate((beyond, off, sends)), beyond) == ()
    block = structs.replace(
        sends, steps=(step("g", "group", enabled=False), structs.replace(sends.steps[0], scope="g"))
    )
    assert (
        rights_around(
            Estate(
                (caller, structs.replace(block, links=())),
            ),
            caller,
        )
        == ()
    )


def test_wider_rights_of_a_called_flow_make_it_stale(tmp_path: Path, run: Run) -> None:
    def write(effect: str) -> None:
        flows = [
            {"id": "a", "name": "Caller", "triggers": [{"id": "t", "kind": "form"}], "steps": [{"id": "s", "kind": "subflow", "calls": "b"}], "links": [{"source": "t", "target": "s"}]},
            {"id": "b", "name": "Called", "triggers": [{"id": "t", "kind": "call"}], "steps": [{"id": "x", "kind": "http", "effect": effect, "name": "Do"}], "links": [{"source": "t", "target": "x"}]},
        ]  # fmt: skip
        (tmp_path / "x.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows}))

    write("read")
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x.json"]\n[review]\nroles = ["owner"]\n')
    run("record")
    assert sign(run, tmp_path, "a", "owner", "x").code == 0 and states(run, tmp_path) == {"a": "valid", "b": "open"}
    write("send")
    ran = run("review", "status")
    assert states(run, tmp_path)["a"] == "stale" and "a flow that it calls may now send" in ran.out
    write("read")
    assert states(run, tmp_path)["a"] == "valid"


def test_two_at_once_and_a_changed_signature(recorded: Path, run: Run) -> None:
    words = [sys.executable, "-m", "zeitbuch", "review", "sign"]
    both = [
        subprocess.Popen([*words, key, "--role", "owner", "--by", "Sanna Brekke"], cwd=recorded, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        for key in ("letters", "SH-1052", "SH-1040", "SH-1090")
    ]  # fmt: skip
    assert [one.wait(60) for one in both] == [0, 0, 0, 0]
    rows = json.loads(run("review", "status", "-f", "json", cwd=recorded).out)["flows"]
    assert sum(role["state"] == "valid" for one in rows for role in one["roles"]) == 4
    import sqlite3

    with sqlite3.connect(recorded / "book.sqlite") as book:
        book.execute("UPDATE zb_entry SET who = 'Ola Tveit' WHERE kind = 'review' AND number = 1")
    ran = run("review", "verify", cwd=recorded)
    assert ran.code == 1 and "review 1" in ran.err


def test_a_signature_stays_with_a_flow_that_has_other_ids(recorded: Path, run: Run) -> None:
    """Also the book's history does: it is looked for by the new id, and its next version is of the same flow."""
    for role, by in (("owner", "Maren Dahl"), ("auditor", "Ola Tveit")):
        assert sign(run, recorded, "SH-1052", role, by).code == 0
    letters = recorded / "november" / "strandline" / "berth-delay.json"
    letters.write_text(letters.read_text().replace('"SH-1052"', '"SH-9001"'))
    said = run("record", cwd=recorded).out
    assert "0 changed, 0 removed, 1 with another id" in said and "id: SH-1052 → SH-9001" in said
    assert "No change of meaning" in run("diff", "@1", "@2", cwd=recorded).out
    assert "other ids: Berth delay notices" in run("history", cwd=recorded).out.replace("\n", " ")
    assert states(run, recorded)["SH-9001"] == "valid"
    letters.write_text(letters.read_text().replace("under 15 minutes", "under 10 minutes"))
    assert run("record", cwd=recorded).code == 0
    assert states(run, recorded)["SH-9001"] == "stale"
    history = json.loads(run("history", "SH-9001", "-f", "json", cwd=recorded).out)
    assert [one["version"] for one in history["rows"]] == [1, 2, 3]


def test_a_signature_is_followed_before_the_other_id_is_recorded_and_asked_for_in_doubt(
    recorded: Path, run: Run
) -> None:
    for role, by in (("owner", "Maren Dahl"), ("auditor", "Ola Tveit")):
        assert sign(run, recorded, "SH-1052", role, by).code == 0
    letters = recorded / "november" / "strandline" / "berth-delay.json"
    text = letters.read_text().replace('"SH-1052"', '"SH-9001"')
    letters.write_text(text)
    assert states(run, recorded)["SH-9001"] == "valid"
    letters.write_text(text.replace("minor (under 15 minutes)", "minor (under 10 minutes)"))
    assert states(run, recorded)["SH-9001"] == "stale"
    # Another name, and half of its words: it may be that flow, and nobody knows.
    other = json.loads(text)
    other["sheet"]["stations"] = other["sheet"]["stations"][:-3]
    words = json.dumps(other).replace("Berth delay notices", "Quay words").replace("passengers", "guests")
    letters.write_text(words)
    rows = {one["id"]: one for one in json.loads(run("review", "status", "-f", "json", cwd=recorded).out)["flows"]}
    why = rows["SH-9001"]["roles"][0]["why"]
    assert rows["SH-9001"]["state"] == "open" and "‘Berth delay notices’ of the id SH-1052, which was signed" in why[0]
