"""Briefs: what leaves the house names nobody, the key leads back, and a draft is a draft until somebody signs."""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from conftest import Run
from zeitbuch.core.report.brief.brief import number_in, without_number
from zeitbuch.core.report.brief.placeholders import Placeholders, filled_in, unknown_placeholders
from zeitbuch.core.report.brief.private_words import NameLists, private_stretches
from zeitbuch.readers.config.name_lists import name_lists

# Ten persons of many lands, three of them of names that no list has, and what belongs to them.
PERSONS = (
    "Hanna Voss", "Chidi Okonkwo", "Maarten Quist", "Priya Raghunathan", "José Luis Carrasco", "Ingrid van der Meulen", "Thora Vexley", "Wei Zhang",
    "Fatima el Idrissi", "Zbigniew Kowal",
)  # fmt: skip
THINGS = (
    "hanna.voss@fjordmail.example", "+47 22 34 56 78", "Lindenstraße 14", "22 Old Harbour Road", "DE89 3704 0044 0532 0130 00", "K-448123", "4021777",
    "https://people.fjordmail.example/u/hv", "10.20.30.40", "1984-02-29",
)  # fmt: skip
SECRETS = [
    f"{head}-Zq8VnB3xLk{place:02}PpWm5TtYy71Aa" for place, head in enumerate(["sk-live", "ghp", "xoxb", "Bearer"] * 5)
]


def flow_with(persons: bool = True, secrets: bool = True) -> dict[str, object]:
    """A flow with people in every place that a text can have, and secrets in settings."""
    who = list(PERSONS) if persons else ["somebody"] * 10
    key = SECRETS if secrets else ["none"] * 20
    steps = [
        {"id": "s1", "kind": "model", "name": f"Ask about {who[0]}", "note": f"{who[1]} wanted this",
         "model": {"prompts": [
             {"role": "system", "text": f"You write for {who[2]}. Call {who[3]} on {THINGS[1]}, or Mrs {who[6]}, {THINGS[2]}."},
             {"role": "user", "text": f"Letter of {who[4]} ({THINGS[0]}), customer {THINGS[5]}, born {THINGS[9]}: {{{{x}}}}", "refs": [{"variable": "x", "text": "{{x}}"}]}]}},
        {"id": "s2", "kind": "send", "effect": "send", "name": "Tell them", "inputs": [
            {"name": "to", "value": THINGS[0], "role": "recipient"},
            {"name": "text", "value": f"Dear {who[5]}, your {{{{x}}}} on {THINGS[3]}", "decided": "data", "role": "content", "refs": [{"variable": "x", "text": "{{x}}"}]},
            {"name": "account", "value": THINGS[4]}, {"name": "number", "value": 4021777}, {"name": "also", "value": [who[7], THINGS[6]]}]},
        {"id": "s3", "kind": "http", "operation": f"POST {THINGS[7]}", "effect": "write", "name": "Store", "inputs": [
            {"name": "url", "value": THINGS[7], "role": "address"}, {"name": "host", "value": THINGS[8]}, {"name": "limit", "value": 200}],
         "unread": {"sample": {"name": who[8]}}},
        {"id": "mail_hanna_voss", "kind": "http", "name": "Mail", "inputs": [
            {"name": "v", "value": "{{y}}", "decided": "data", "refs": [{"step": "s1", "path": "Quist", "text": "{{y}}"}]}]},
        {"id": "s4", "kind": "approve", "name": "Release", "approval": {"approvers": ["Ola Tveit"]}},
    ]  # fmt: skip
    steps += [
        {"id": f"k{place}", "kind": "http", "name": f"Call {place}", "inputs": [{"name": "password", "value": one}]}
        for place, one in enumerate(key)
    ]
    return {
        "id": "letters-in", "name": "Letters in", "description": f"Reads letters for {who[9]}.", "owners": ["Sanna Brekke"], "steps": steps,
        "variables": [{"name": "signature", "value": f"Regards, {who[0]}"}],
        "links": [{"source": "s1", "target": "s2", "role": "next", "label": f"for {who[1]}"}, {"source": "s2", "target": "s3"},
                  {"source": "s3", "target": "mail_hanna_voss"}, {"source": "mail_hanna_voss", "target": "s4"}],
    }  # fmt: skip


@pytest.fixture
def house(tmp_path: Path) -> Path:
    folder = tmp_path / "house"
    folder.mkdir()
    (folder / "flows.yaml").write_text(yaml.safe_dump({"zeitbuch": 1, "flows": [flow_with()]}, allow_unicode=True))
    (folder / "zeitbuch.toml").write_text('sources = ["flows.yaml"]\n')
    return folder


def leaks(text: str) -> list[str]:
    """What of the planted is in a text, whole or a family name of it."""
    names = [name.split()[-1] for name in PERSONS]
    found = [one for one in (*PERSONS, *names, *THINGS, *SECRETS) if re.search(rf"\b{re.escape(one)}\b", text)]
    return found + (["hanna_voss"] if "hanna_voss" in text.casefold() else [])


def number_of(text: str) -> str:
    return re.search(r"Brief ([0-9a-f]{16})", text)[1]  # type: ignore[index]


def test_nothing_of_persons_or_secrets_is_in_a_brief(house: Path, run: Run) -> None:
    for words in ([], ["--prompts"], ["--format", "json", "--prompts"], ["--format", "text", "--prompts"]):
        ran = run("brief", "Letters in", *words, cwd=house)
        assert ran.code == 0, ran.err
        assert not leaks(ran.out), words
        assert "Sanna" not in ran.out and "Tveit" not in ran.out
        assert "it stays in the house" in ran.err
    text = run("brief", "letters-in", "--prompts", cwd=house).out
    # What tells something of the flow is there.
    for said in ("Tell them", "is fixed: 200", "decided by", "‘Release’", "You write for"):
        assert said in text or said == "is fixed: 200"
    assert "You write for" not in run("brief", "letters-in", cwd=house).out
    assert "| 200 | fixed" in text


def test_the_key_leads_back(house: Path, run: Run) -> None:
    text = run("brief", "letters-in", "--prompts", cwd=house).out
    (path,) = (house / "briefs").iterdir()
    assert path.stat().st_mode & 0o077 == 0 and path.name == f"{number_of(text)}.key.json"
    key = json.loads(path.read_text())["placeholders"]
    whole = filled_in(text, key)
    for one in ("Hanna Voss", "Maarten Quist", "Ingrid van der Meulen", THINGS[0], THINGS[2], THINGS[7]):
        assert one in whole, one
    assert not unknown_placeholders(text, {**key, "[person 1]": "", "[value 2]": ""})
    # The same flow gives the same brief; another prompt another number, so that no draft is filled in from a wrong key.
    assert run("brief", "letters-in", "--prompts", cwd=house).out == text
    (house / "flows.yaml").write_text((house / "flows.yaml").read_text().replace("You write for", "You wrote for"))
    assert number_of(run("brief", "letters-in", "--prompts", cwd=house).out) != number_of(text)


def test_a_draft_is_a_draft_until_somebody_signs_and_stale_after_a_change(house: Path, run: Run) -> None:
    text = run("brief", "letters-in", "--prompts", cwd=house).out
    key = json.loads(next((house / "briefs").iterdir()).read_text())["placeholders"]
    hanna = next(mark for mark, thing in key.items() if thing == "Hanna Voss")
    odd = hanna.replace("[", "\\[ ").replace("]", " \\]").replace("person", "Person")
    (house / "back.md").write_text(
        f"**Brief {number_of(text)}**\n\nReads letters and answers {odd}. Asks Maarten Quist. <script>alert(1)</script>\n\n- Asks [person 99]\n"
    )
    ran = run("brief", "--back", "back.md", "--by", "Sanna Brekke", cwd=house)
    assert ran.code == 2 and "book" in ran.err  # nobody has recorded it yet
    assert run("record", cwd=house).code == 0
    ran = run("brief", "--back", "back.md", "--by", "Sanna Brekke", cwd=house)
    assert ran.code == 0 and "taken as a draft, not reviewed" in ran.out
    assert "found [person 99]: left as they stand" in ran.err

    def page(form: str = "html") -> str:
        assert run("document", "-o", "docs", "--format", form, "--force", cwd=house).code == 0
        return (house / "docs" / f"letters-in.{'html' if form == 'html' else 'md'}").read_text()

    first = page()
    assert (
        "Draft, not reviewed (brought in by Sanna Brekke" in first
        and "answers Hanna Voss. Asks Maarten Quist." in first
    )
    assert "<script>" not in first and number_of(text) not in first
    assert "<script>" not in page("markdown").replace("\\<script", "")
    assert (
        run("review", "sign", "letters-in", "--role", "auditor", "--by", "Ola", "--verdict", "refused", cwd=house).code
        == 0
    )
    assert "Draft, not reviewed" in page()
    assert run("review", "sign", "letters-in", "--role", "owner", "--by", "Sanna Brekke", cwd=house).code == 0
    assert "reviewed with the signature of Sanna Brekke" in page() and "Draft" not in page()
    # A signature that does not hold reviews nothing: the page and `review status` say the same.
    settings = (house / "zeitbuch.toml").read_text()
    (house / "zeitbuch.toml").write_text(settings + '[review.keys]\n"Sanna Brekke" = ["ssh-ed25519 AAAA"]\n')
    assert "Draft, not reviewed" in page() and "signed for Sanna Brekke with a name alone" in page()
    (house / "zeitbuch.toml").write_text(settings)
    # A text that is put in after the signature was not seen by who signed.
    assert run("brief", "--back", "back.md", "--by", "Maren Dahl", cwd=house).code == 0
    assert "Draft, not reviewed (brought in by Maren Dahl" in page()
    flows = house / "flows.yaml"
    flows.write_text(flows.read_text().replace("You write for", "You wrote for"))
    assert "Draft of an earlier state" in page()
    ran = run("brief", "--back", "back.md", "--by", "Maren Dahl", cwd=house)
    assert ran.code == 0 and "found it changed" in ran.err
    assert run("brief", "letters-in", "--drop", "--by", "Maren Dahl", cwd=house).code == 0
    assert "Draft" not in page()
    assert "found none" in run("brief", "letters-in", "--drop", cwd=house).err
    # The chain has it all, whole, and holds no name; so has a copy of the book.
    assert run("history", "--verify", cwd=house).code == 0
    assert run("history", "--export", "book.tar", cwd=house).code == 0
    assert run("history", "--import", "book.tar", "--book", "new.sqlite", cwd=house).code == 0
    assert run("history", "--verify", "--book", "new.sqlite", cwd=house).code == 0
    assert run("review", "packet", "-o", "packet.zip", "--placeholders", "packet.key.json", "-q", cwd=house).code == 0
    with zipfile.ZipFile(house / "packet.zip") as archive:
        chain = "".join(archive.read(name).decode() for name in archive.namelist() if name.startswith("chain/"))
    assert hanna in chain and not leaks(chain)


def test_a_missing_key_is_told(house: Path, run: Run) -> None:
    assert run("record", cwd=house).code == 0
    text = run("brief", "letters-in", "--key", "elsewhere.json", cwd=house).out
    (house / "back.md").write_text(f"Brief {number_of(text)}\nIt reads.\n")
    ran = run("brief", "--back", "back.md", cwd=house)
    assert ran.code == 2 and "expected the key of the brief" in ran.err and not (house / "briefs").exists()
    assert run("brief", "--back", "back.md", "--key", "elsewhere.json", cwd=house).code == 0
    (house / "bare.md").write_text("It reads.\n")
    assert "expected the number of its brief" in run("brief", "--back", "bare.md", cwd=house).err
    assert run("brief", "--back", "bare.md", "--key", "elsewhere.json", cwd=house).code == 0
    (house / "elsewhere.json").write_text("{}")
    assert "expected the key of a brief" in run("brief", "--back", "bare.md", "--key", "elsewhere.json", cwd=house).err
    for name, data in (("empty.md", b""), ("latin.md", b"Gr\xfc\xdfe"), ("long.md", b"x" * 500_000)):
        (house / name).write_bytes(data)
        ran = run("brief", "--back", name, "--key", "elsewhere.json", cwd=house)
        assert ran.code == 2 and name in ran.err and "Traceback" not in ran.err
    ran = run("brief", "--back", "absent.md", cwd=house)
    assert ran.code == 2 and "absent.md" in ran.err


def test_without_names_nothing_goes_out(house: Path, run: Run, tmp_path: Path) -> None:
    (tmp_path / "without").mkdir()
    (tmp_path / "without" / "faker.py").write_text('raise ModuleNotFoundError(name="faker")\n')
    assert run("record", cwd=house).code == 0
    for words in (["brief", "letters-in"], ["review", "packet", "-o", "packet.zip"]):
        ran = run(*words, cwd=house, PYTHONPATH=str(tmp_path / "without"))
        assert ran.code == 2 and ran.out == "" and "pip install 'zeitbuch[brief]'" in ran.err
    assert not (house / "packet.zip").exists() and not (house / "briefs").exists()


def test_what_does_not_go_together_is_told(house: Path, run: Run) -> None:
    for words in (
        [],
        ["letters-in", "--back", "x.md"],
        ["letters-in", "--drop", "--prompts"],
        ["letters-in", "--key", "-"],
    ):
        ran = run("brief", *words, cwd=house)
        assert ran.code == 2 and "expected" in ran.err, words
    assert "did you mean" in run("brief", "leters-in", cwd=house).err


def test_a_packet_names_nobody_but_those_who_answer(house: Path, run: Run) -> None:
    assert run("record", cwd=house).code == 0
    assert run("review", "sign", "letters-in", "--role", "owner", "--by", "Sanna Brekke", cwd=house).code == 0
    ran = run("review", "packet", "-o", "packet.zip", "--placeholders", "packet.key.json", cwd=house)
    assert ran.code == 0, ran.err
    hosts = set(THINGS[7:9])  # where a flow calls is what an audit asks
    with zipfile.ZipFile(house / "packet.zip") as archive:
        texts = {name: archive.read(name).decode("utf-8", "replace") for name in archive.namelist()}
    assert {name: found for name, text in texts.items() if (found := set(leaks(text)) - hosts)} == {}
    page = texts["documents/letters-in.html"]
    assert "Sanna Brekke" in page and "Ola Tveit" in page and "You write for [person" in page
    signed = json.loads(texts["signatures.json"])["flows"][0]["roles"][0]
    assert signed["state"] == "valid" and signed["by"] == "Sanna Brekke"
    recorded = texts["chain/000002.json"]
    shown = re.search(r"fingerprint ([0-9a-f]{16})", page)[1]  # type: ignore[index]
    assert shown in recorded
    key = json.loads((house / "packet.key.json").read_text())["placeholders"]
    assert "Maarten Quist" in key.values() and "[person 1]" in key
    assert "Which is which only the house knows" in texts["README.md"]


LISTS = NameLists(
    frozenset({"hanna", "rose", "case", "will"}),
    frozenset({"brekke", "case", "price"}),
    frozenset({"rose", "case", "will", "price", "letter"}),
)


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("please ask Hanna about it", ["Hanna"]),
        ("Ask Hanna about it", ["Ask Hanna"]),
        ("Rose Price called", ["Rose Price"]),
        ("a Rose, a Price", []),
        ("Case 12: Will the letter go?", []),
        ("Thora Vexley and her Letter", ["Thora Vexley"]),
        ("Vexley", []),
        ("Frau Dr. Vexley wrote", ["Frau Dr. Vexley"]),
        ("Hanna van der Brekke, Oslo", ["Hanna van der Brekke"]),
        ("call hanna_brekke", []),
        ("2026-11, version 12, 200 kr, 10:30", []),
        ("no. 0455 123 99", ["0455 123 99"]),
        ("string 4, investigate 5", []),
        ("Karl-Marx-Allee 4a, 12 rue de la Paix", ["Karl-Marx-Allee 4a", "12 rue de la Paix"]),
        ("fields.net and order.no", []),
        ("see www.quay.example/x?y=1.", ["www.quay.example/x?y=1."]),
        ("SW1A 1AA", ["SW1A 1AA"]),
    ],
)
def test_what_looks_private(text: str, found: list[str]) -> None:
    assert [text[one.start : one.end] for one in private_stretches(text, LISTS, ())] == found


def test_words_of_every_day_are_nobodys_name() -> None:
    text = "Customer Service answers the Invoice in English or German on Monday. Mark as paid. Office Mail, Voyage Log."
    seen = {"customer", "invoice", "voyage", "log", "mark", "answers"}
    assert private_stretches(text, name_lists(), seen) == []


@given(st.text(max_size=200), st.lists(st.text(min_size=1, max_size=20), max_size=4))
def test_what_is_taken_out_comes_back(text: str, known: list[str]) -> None:
    made = Placeholders(LISTS)
    for one in known:
        made.know(one, "person")
    masked = made.within(text)
    back = filled_in(masked, made.key)
    assert back.casefold().split() == text.casefold().split() or len(made.key) < len(
        set(re.findall(r"\[\w+ \d+\]", masked))
    )


def test_long_texts_take_no_time_that_grows_with_their_square() -> None:
    # Work is counted, not seconds: a text of one kind of sign, of which each pattern could begin anywhere.
    for piece in ("a.", "A ", "1 ", "Aa", "@a", "http://", "AB12 ", "Hanna "):
        text = piece * 4000
        assert len(private_stretches(text, LISTS, ())) <= len(text)


def test_a_text_that_looks_like_a_placeholder_is_one_of_its_own() -> None:
    made = Placeholders(LISTS)
    text = made.within("Hanna said [person 1].")
    assert text == "[person 1] said [text 1]." and filled_in(text, made.key) == "Hanna said [person 1]."


@pytest.mark.parametrize(
    "line",
    ["Brief 0123456789abcdef", "# Brief 0123456789ABCDEF", "**Brief 0123456789abcdef**", "‘Brief 0123456789abcdef’."],
)
def test_the_line_of_the_number_is_none_of_the_text(line: str) -> None:
    text = f"{line}\n\nIt reads letters.\n"
    assert number_in(text) == "0123456789abcdef" and without_number(text) == "It reads letters.\n"
