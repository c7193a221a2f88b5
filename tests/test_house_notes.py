# ruff: noqa: E501  (cases are easier to compare side by side)
"""Notes of the house: read, printed at their place, kept through re-runs, renames and renewed ids, and inert."""

from __future__ import annotations

import io
import json
import re
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from zeitbuch.core.report.blocks import Bullets, Heading, Outline, Page, Paragraph, Quote, Signatures
from zeitbuch.core.report.house_notes import HouseNote, lost_notes, with_notes
from zeitbuch.readers.config.house_notes import notes_of_folder, notes_of_text

HEAD = "---\nflow: SH-1052\n---\n"
LETTERS = "november/strandline/berth-delay.json"
STEP_NOTE = "## Step: Write the notice\n\nThe harbour master reads these.\n"


def test_a_file_is_read_into_places() -> None:
    text = f"{HEAD}For all.\n\n## Step: d\n\n- one\n- two\n  - three\n\n## Section: What it costs\n\nSee [it](https://a.example/b).\n\n```\n## Step: no heading\n```\n\n## Other\n\nmore\n"
    whole, step, section = notes_of_text(text, "notes/a.md")
    assert (whole.place, whole.line, whole.blocks) == ("flow", 4, (Paragraph("For all."),))
    assert (step.place, step.name, step.line, step.flow) == ("step", "d", 6, "SH-1052")
    assert step.blocks == (Outline(((0, "one"), (0, "two"), (1, "three"))),)
    assert (section.place, section.name) == ("section", "What it costs")
    assert section.blocks == (
        Paragraph("See it (https://a.example/b)."), Quote("", "## Step: no heading\n"), Paragraph("Other"), Paragraph("more"),
    )  # fmt: skip
    assert notes_of_text(f"{HEAD}- a\n- b\n", "x")[0].blocks == (Bullets(("a", "b")),)
    assert notes_of_text(HEAD, "x") == [] == notes_of_text(f"{HEAD}\n## Step: a\n\n", "x")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no head"),
        ("Text\n", "no head"),
        ("---\nflow: a\n", "no head"),
        ("---\nname: a\n---\n", "found none"),
        ("---\nflow: [a]\n---\n", "found none"),
        ("---\nflow: 'a\n---\n", "no YAML"),
        ("---\nflow: a\nversion: two\n---\n", "found 'two'"),
        ("---\nflow: a\nstep: b\n---\n", "found step"),
    ],
)
def test_a_file_without_a_flow_is_told(text: str, words: str) -> None:
    with pytest.raises(ValueError, match="expected") as told:
        notes_of_text(text, "x")
    assert words in str(told.value)


def test_a_folder_is_read_past_its_faults(tmp_path: Path) -> None:
    (tmp_path / "notes" / "deep").mkdir(parents=True)
    (tmp_path / "notes" / "a.md").write_bytes(b"\xff\xfe")
    (tmp_path / "notes" / "b.md").write_text("no head")
    (tmp_path / "notes" / "deep" / "c.md").write_text(f"{HEAD}Kept.\n")
    notes, problems = notes_of_folder(str(tmp_path / "notes"))
    assert [(note.file, note.line) for note in notes] == [("notes/deep/c.md", 4)]
    assert [problem.code for problem in problems] == ["notes", "notes"]
    assert notes_of_folder(str(tmp_path / "none"))[1][0].message.startswith("expected a folder of notes")


def test_notes_stand_at_their_places() -> None:
    page = Page("a", "A", (Heading(1, "A"), Heading(2, "Costs", "costs"), Paragraph("1"), Signatures("f"), Heading(2, "Steps", "steps"), Heading(3, "1 B", "step-1"), Paragraph("2")))  # fmt: skip

    def note(place: Any, name: str) -> HouseNote:
        return HouseNote("f", place, name, (Paragraph(name or "all"),), "n.md")

    notes = [
        note("flow", ""),
        note("section", "COSTS"),
        note("step", "b"),
        note("step", "gone"),
        note("section", "Odd"),
    ]
    made = with_notes(page, notes, {"b": "step-1"})
    shown = [
        block.blocks[-1].text if hasattr(block, "blocks") else getattr(block, "text", "sign") for block in made.blocks
    ]
    assert shown == [
        "A",
        "Costs",
        "1",
        "COSTS",
        "Notes of the house",
        "all",
        "gone",
        "Odd",
        "sign",
        "Steps",
        "1 B",
        "2",
        "b",
    ]
    assert [one.name for one in lost_notes(page, notes, {"b": "step-1"})] == ["gone", "Odd"]
    assert with_notes(page, [], {}) is page


def write(demo: Path, text: str, head: str = HEAD) -> None:
    (demo / "notes").mkdir(exist_ok=True)
    (demo / "notes" / "berth.md").write_text(head + text)


def printed(run: Run, demo: Path, flow: str = "SH-1052", name: str = "sh-1052") -> tuple[str, str]:
    """The page with notes, and what was said."""
    ran = run("document", "--notes", "notes", "--flow", flow, "-f", "markdown", "-o", "out", cwd=demo)
    return (demo / "out" / f"{name}.md").read_text(), ran.err


def section_of(text: str, words: str) -> str:
    """The last heading before some words."""
    return re.findall(r"^#+ (.*)$", text[: text.index(words)], re.MULTILINE)[-1]


def renewed(text: str) -> str:
    """The export with other ids of its stations, everywhere."""
    found = json.loads(text)
    ids = {station["ref"]: f"st-{place + 70}" for place, station in enumerate(found["sheet"]["stations"])}

    def walk(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: walk(inner) for key, inner in value.items()}
        if isinstance(value, list):
            return [walk(inner) for inner in value]
        if isinstance(value, str):
            return ids.get(value, re.sub(r"%\[([a-z])\.", lambda hit: f"%[{ids[hit[1]]}.", value))
        return value

    return json.dumps(walk(found))


def test_a_note_survives_ten_runs_renames_and_renewed_ids(demo: Path, run: Run) -> None:
    write(demo, f"For all.\n\n{STEP_NOTE}\n## Section: What it costs\n\nBudget line 4711.\n")
    assert run("record", cwd=demo).code == 0
    first, told = printed(run, demo)
    assert told == ""
    assert section_of(first, "The harbour master reads these.") == "3 Write the notice"
    assert section_of(first, "Budget line 4711.") == "What it costs"
    assert section_of(first, "For all.") == "Notes of the house"
    assert {printed(run, demo) for _ in range(9)} == {(first, "")}
    letters = demo / LETTERS
    letters.write_text(
        letters.read_text()
        .replace("Write the notice", "Draft the words")
        .replace("Berth delay notices", "Delay notices")
    )
    renamed, told = printed(run, demo)
    assert section_of(renamed, "The harbour master reads these.") == "3 Draft the words" and told == ""
    assert "written to Write the notice" in renamed
    letters.write_text(renewed(letters.read_text()))
    numbered, told = printed(run, demo)
    assert section_of(numbered, "The harbour master reads these.") == "3 Draft the words" and told == ""
    assert "written to Write the notice, probably this step" in numbered  # both its id and its name are others


def test_a_note_follows_the_renewed_id_of_its_step_and_flow(demo: Path, run: Run) -> None:
    write(demo, "## Step: d\n\nThe harbour master reads these.\n")
    assert run("record", cwd=demo).code == 0
    letters = demo / LETTERS
    letters.write_text(renewed(letters.read_text()))
    text, told = printed(run, demo)
    assert section_of(text, "The harbour master reads these.") == "3 Write the notice" and told == ""
    assert "written to d" in text
    letters.write_text(letters.read_text().replace('"SH-1052"', '"SH-9001"'))
    ran = run("document", "--notes", "notes", "-f", "markdown", "-o", "out", cwd=demo)
    assert "expected notes to a flow of the sources, found 'SH-1052'" in ran.err and "record it" in ran.err
    assert run("record", cwd=demo).code == 0
    text, told = printed(run, demo, "SH-9001")
    assert section_of(text, "The harbour master reads these.") == "3 Write the notice" and told == ""


def test_ids_that_mean_another_step_now_are_told_apart_by_the_version(demo: Path, run: Run) -> None:
    """A builder that hands out numbers anew: what is called d now is not what was called d."""
    write(demo, "## Step: d\n\nThe harbour master reads these.\n", HEAD.replace("SH-1052", "SH-1052\nversion: 1"))
    assert run("record", cwd=demo).code == 0
    letters = demo / LETTERS
    found = json.loads(renewed(letters.read_text()))
    text = json.dumps(found).replace('"st-73"', '"x"').replace('"st-74"', '"d"')
    letters.write_text(text)
    page, told = printed(run, demo)
    assert section_of(page, "The harbour master reads these.") == "3 Write the notice" and told == ""


def test_ids_of_a_version_that_nobody_has_are_no_guess(demo: Path, run: Run) -> None:
    """There is a step called d; whether it is that of the version no book says."""
    write(demo, "## Step: d\n\nThe harbour master reads these.\n", HEAD.replace("SH-1052", "SH-1052\nversion: 1"))
    text, told = printed(run, demo)
    assert section_of(text, "The harbour master reads these.") == "Notes of the house"
    assert "found 'd (version 1)'" in told


def test_a_note_whose_step_is_gone_is_shown_as_such(demo: Path, run: Run) -> None:
    write(demo, "## Step: Ring the bell\n\nSomebody has to.\n\n## Section: Weather\n\nMild.\n")
    text, told = printed(run, demo)
    assert "Written to the step ‘Ring the bell’, which is not in this description." in text
    assert section_of(text, "Somebody has to.") == "Notes of the house" == section_of(text, "Mild.")
    assert (
        "notes/berth.md:4: warning: expected the id of a step of ‘Berth delay notices’, found 'Ring the bell'" in told
    )
    assert "one of b (How bad is it?), c (By severity)" in told and "one of What it is for, Starts" in told


def test_notes_are_named_by_the_workspace(demo: Path, run: Run) -> None:
    write(demo, STEP_NOTE)
    (demo / "zeitbuch.toml").write_text('notes = "notes"\n' + (demo / "zeitbuch.toml").read_text())
    assert run("document", "-o", "out", cwd=demo).code == 0
    html = (demo / "out" / "sh-1052.html").read_text()
    assert "<aside><p class=quiet>Note of the house (notes/berth.md, line 4)</p><p>The harbour master" in html
    ran = run("document", "--notes", "nowhere", "-o", "out", cwd=demo)
    assert ran.code == 2 and "expected a folder of notes, found none" in ran.err


HOSTILE = "<script>alert(1)</script> ![x](javascript:alert(1)) \x1b[31mred ]]> {{7*7}} =cmd|' /C calc'!A0 \u202eabc"


def test_hostile_notes_are_inert_in_every_form(demo: Path, run: Run) -> None:
    docx = pytest.importorskip("docx")
    write(
        demo,
        f"{HOSTILE}\n\n## Step: Write the notice\n\n{HOSTILE}\n\n<img src=x onerror=alert(1)>\n\n```\n</pre>{HOSTILE}\n```\n",
    )
    for form in ("html", "markdown", "word"):
        assert run("document", "--notes", "notes", "--flow", "SH-1052", "-f", form, "-o", "out", cwd=demo).code == 0
    html = (demo / "out" / "sh-1052.html").read_text()
    body = html[html.index("<main>") :]
    assert "<script" not in body and "<img" not in body and "&lt;script&gt;alert(1)" in body
    assert "\x1b" not in html and "\u202e" not in html and "</pre>&lt;" not in body.replace("</pre></figure>", "")
    markdown = (demo / "out" / "sh-1052.md").read_text()
    from markdown_it import MarkdownIt

    tokens = MarkdownIt("commonmark").parse(markdown)
    kinds = {token.type for token in tokens} | {child.type for token in tokens for child in token.children or ()}
    assert "html_inline" not in kinds and not any(
        "<script" in token.content for token in tokens if token.type == "html_block"
    )
    word = docx.Document(io.BytesIO((demo / "out" / "sh-1052.docx").read_bytes()))
    words = [paragraph for paragraph in word.paragraphs if "alert(1)" in paragraph.text]
    assert len(words) >= 3 and all("\x1b" not in paragraph.text for paragraph in words)
    assert all(paragraph.paragraph_format.left_indent for paragraph in words)


def test_a_note_to_a_tool_stands_at_its_agent_and_names_it(demo: Path, run: Run) -> None:
    (demo / "notes").mkdir()
    (demo / "notes" / "letters.md").write_text("---\nflow: letters\n---\n## step: Pay a refund\nAsk finance first.\n")
    words = ["document", "--flow", "letters", "--notes", "notes", "--format", "markdown", "-o", "docs"]
    assert run(*words, cwd=demo).code == 0
    text = (demo / "docs" / "letters.md").read_text()
    section = text[text.index("#### 2.3 Refund agent") : text.index("#### 2.4 Complaint agent")]
    assert "| 2.3.b Pay a refund |" in section and "Note of the house to ‘Pay a refund’" in section
    assert "Ask finance first." in section and "#### 2.3.b" not in text
