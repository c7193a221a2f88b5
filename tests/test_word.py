"""Word files: read back by the library that others use, the same bytes for the same input, hostile names, templates, LibreOffice."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import docx
import pytest

from conftest import Run

SOFFICE = shutil.which("soffice")


def test_a_file_a_flow(demo: Path, run: Run) -> None:
    assert run("document", "--flow", "Invoice intake", "--format", "word", "-o", "w", cwd=demo).code == 0
    made = docx.Document(str(demo / "w" / "invoice-intake.docx"))
    heads = [(p.style.name, p.text) for p in made.paragraphs if p.style.name.startswith(("Heading", "Title"))]
    assert (
        heads[0] == ("Title", "Invoice intake")
        and ("Heading 1", "Who decides what") in heads
        and ("Heading 2", "1 Read the invoice") in heads
    )
    words = "\n".join(p.text for p in made.paragraphs)
    assert "sends to office@halvorsund.example" in words and "Extract the supplier, the invoice number" in words
    (picture,) = made.inline_shapes
    assert picture._inline.docPr.get("descr") == "Map of Invoice intake" and picture.height < 8.6 * 914400
    signs = next(table for table in made.tables if table.cell(0, 1).text == "what is signed")
    assert [cell.text for cell in signs.rows[0].cells][-1] == "signature" and len(signs.rows) == 3
    assert made.sections[0].page_width.mm == pytest.approx(210, abs=0.1)


def test_one_volume_and_the_same_bytes(demo: Path, run: Run) -> None:
    assert run("document", "november/native", "-o", "all.docx", cwd=demo).code == 0
    titles = [p.text for p in docx.Document(str(demo / "all.docx")).paragraphs if p.style.name == "Title"]
    assert titles == ["Flows", "Fault logger", "Monthly punctuality report"]
    before = (demo / "all.docx").read_bytes()
    run("document", "./november/native/", "-o", "again.docx", cwd=demo)
    assert (demo / "again.docx").read_bytes() == before


def test_pages_name_no_machine_and_no_way_of_reading(demo: Path, run: Run, tmp_path: Path) -> None:
    native = demo / "november" / "native"
    shutil.make_archive(str(tmp_path / "native"), "zip", native)
    assert run("record", "november/native", "--book", "b.sqlite", cwd=demo).code == 0
    pages: list[dict[str, bytes]] = []
    for number, source in enumerate(
        ["november/native", "./november/native/", str(native), str(tmp_path / "native.zip"), "@1"]
    ):
        ran = run("document", source, "-o", f"d{number}", "--book", "b.sqlite", cwd=demo)
        assert ran.code == 0, ran.err
        pages.append({path.name: path.read_bytes() for path in (demo / f"d{number}").rglob("*") if path.is_file()})
    assert {"fault-logger.html", "monthly-report.html", "index.html", "zeitbuch-site.json"} < set(pages[0]) and all(
        page == pages[0] for page in pages[1:]
    )
    assert not any(str(demo).encode() in text for text in pages[0].values())


def test_a_template_and_what_is_refused(demo: Path, run: Run) -> None:
    house = docx.Document()
    house.styles["Heading 1"].font.name = "House Sans"
    house.sections[0].header.paragraphs[0].text = "Halvorsund line"
    house.add_paragraph("An example that is not to stay")
    house.save(str(demo / "house.docx"))
    assert run("document", "--flow", "letters", "-o", "t.docx", "--template", "house.docx", cwd=demo).code == 0
    made = docx.Document(str(demo / "t.docx"))
    assert (
        made.sections[0].header.paragraphs[0].text == "Halvorsund line"
        and made.styles["Heading 1"].font.name == "House Sans"
    )
    assert not any("not to stay" in p.text for p in made.paragraphs)
    (demo / "bad.docx").write_text("no zip")
    for options, said in (
        (["-o", "t.docx", "--template", "bad.docx"], "expected a Word file as template"), (["-o", "t.docx", "--template", "none.docx"], "expected a Word file as template"),
        (["-o", "t.pdf"], "expected a folder, or a file .docx"), (["-o", "t.docx", "-f", "html"], "expected no --format beside"),
        (["-o", "d", "--template", "house.docx"], "expected --format word"),
    ):  # fmt: skip
        ran = run("document", "--flow", "letters", *options, cwd=demo)
        assert ran.code == 2 and said in ran.err, ran.err


@pytest.mark.parametrize("form", ["html", "markdown", "word"])
def test_a_page_that_somebody_filled_in_is_left(demo: Path, run: Run, form: str) -> None:
    def document(*more: str) -> Any:
        return run("document", "november/native", "--format", form, "-o", "d", *more, cwd=demo)

    assert document().code == 0 and document().code == 0  # as it was written it is written again
    page = next(path for path in (demo / "d").iterdir() if path.stem == "fault-logger")
    if form == "word":
        made = docx.Document(str(page))
        made.tables[-1].cell(0, 0).text = "Maren Dahl, approved"
        made.save(str(page))
    else:
        page.write_text(page.read_text().replace("Fault logger", "Fault logger, seen by Maren Dahl", 1))
    edited = page.read_bytes()
    ran = document()
    assert ran.code == 2 and "fault-logger" in ran.err and "[page-edited]" in ran.err and page.read_bytes() == edited
    assert document("--force").code == 0 and page.read_bytes() != edited and document().code == 0


def hostile(path: Path) -> None:
    name = "<w:p>&\x00\x1b[31m\u202e]]> \ud83d"
    flow = {"id": "f", "name": name.encode("utf-8", "replace").decode(), "description": "a\x0bb <script>", "triggers": [{"id": "t", "kind": "form"}],
            "steps": [{"id": "a", "kind": "http", "name": "x" * 3000, "note": "{{ field }}"}], "links": [{"source": "t", "target": "a"}]}  # fmt: skip
    path.write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))


def test_hostile_names_are_text(tmp_path: Path, run: Run) -> None:
    hostile(tmp_path / "x.json")
    assert run("document", "x.json", "-o", "x.docx").code == 0
    made = docx.Document(str(tmp_path / "x.docx"))
    assert made.paragraphs[0].text.startswith("<w:p>&") and any("<script>" in p.text for p in made.paragraphs)


@pytest.mark.skipif(SOFFICE is None, reason="LibreOffice is not installed")
def test_libreoffice_opens_every_file(demo: Path, run: Run, tmp_path: Path) -> None:
    hostile(demo / "hostile.json")
    flows = [word for key in ("letters", "SH-1052", "crew-swap", "TM-210") for word in ("--flow", key)]
    assert (
        run("document", "-o", "all.docx", *flows, cwd=demo).code == 0
        and run("document", "hostile.json", "-o", "h.docx", cwd=demo).code == 0
    )
    home = f"-env:UserInstallation=file://{tmp_path / 'office'}"
    subprocess.run([str(SOFFICE), home, "--headless", "--convert-to", "pdf", "--outdir", str(tmp_path), str(demo / "all.docx"), str(demo / "h.docx")],
                   check=True, capture_output=True, timeout=180)  # fmt: skip
    assert all((tmp_path / name).stat().st_size > 10_000 for name in ("all.pdf", "h.pdf"))
