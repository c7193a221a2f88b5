"""Packets for auditors: whole, the same bytes, checked by the system's own programs, without secrets."""

from __future__ import annotations

import json
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest

from conftest import Run
from zeitbuch.app.packet import sums_of, to_archive

SUMS = shutil.which("sha256sum")
SECRETS = ["Tr0ub4dor-9fJk2LmQ8vX0aZ7w", "3hGt5RsW1cB6nM4kLdEx82Qq", "zq8VnB3xLk0PpWm5TtYy71Aa"]


@pytest.fixture
def signed(demo: Path, run: Run) -> Path:
    assert run("record", cwd=demo).code == 0
    for role, by in (("owner", "Maren Dahl"), ("auditor", "Ola Tveit")):
        assert run("review", "sign", "letters", "--role", role, "--by", by, cwd=demo).code == 0
    return demo


def unpacked(folder: Path, name: str = "packet.zip") -> Path:
    place = folder / f"{name}-unpacked"
    with zipfile.ZipFile(folder / name) as archive:
        archive.extractall(place)
    return place


def holds(place: Path, name: str) -> bool:
    assert SUMS is not None
    done = subprocess.run([SUMS, "--check", "--quiet", "--strict", name], cwd=place, capture_output=True, check=False)
    return done.returncode == 0


@pytest.mark.skipif(SUMS is None, reason="sha256sum is not installed")
def test_all_of_it_is_checked_without_us(signed: Path, run: Run) -> None:
    ran = run("review", "packet", "-o", "packet.zip", cwd=signed)
    assert ran.code == 0 and "the hash of its manifest is" in ran.err
    place = unpacked(signed)
    assert holds(place, "manifest.sha256") and holds(place, "chain.sha256")
    shutil.copy(place / "originals.sha256", signed / "november")
    assert holds(signed / "november", "originals.sha256")
    entries = [json.loads(path.read_bytes()) for path in sorted((place / "chain").iterdir())]
    hashes = [line.split()[0] for line in (place / "chain.sha256").read_text().splitlines()]
    assert [entry["previous"] for entry in entries[1:]] == hashes[:-1] and len(hashes) == 3
    assert hashes[-1] in (place / "README.md").read_text()
    # One letter of a signature, or of a page.
    entry = place / "chain" / "000003.json"
    entry.write_bytes(entry.read_bytes().replace(b"Ola Tveit", b"Ida Tveit"))
    assert not holds(place, "chain.sha256") and not holds(place, "manifest.sha256")


def test_what_is_in_it(signed: Path, run: Run) -> None:
    assert run("review", "packet", "-o", "packet.zip", "-q", cwd=signed).code == 0
    place = unpacked(signed)
    states = {one["id"]: one["state"] for one in json.loads((place / "signatures.json").read_text())["flows"]}
    assert states["letters"] == "valid" and states["SH-1052"] == "open"
    findings = json.loads((place / "findings.json").read_text())["findings"]
    assert any(one["accepted"] for one in findings) and any(not one["accepted"] for one in findings)
    page = (place / "documents" / "letters.html").read_text()
    assert "Ola Tveit" in page and "in the book" in page
    assert len(list((place / "flows").iterdir())) == 17 and not (place / "originals").exists()
    native = run("inventory", "packet.zip-unpacked/flows", "--format", "csv", cwd=signed)
    assert native.code == 0 and native.out.count("\n") == 18
    assert json.loads((place / "bill.cdx.json").read_text())["bomFormat"] == "CycloneDX"
    first = (signed / "packet.zip").read_bytes()
    (signed / "packet.zip").unlink()
    assert run("review", "packet", "--source", str(signed / "november"), "-o", "packet.zip", cwd=signed).code == 0
    assert (signed / "packet.zip").read_bytes() == first
    assert not any(str(signed).encode() in path.read_bytes() for path in place.rglob("*") if path.is_file())


def test_its_pages_are_those_of_the_site(signed: Path, run: Run) -> None:
    (signed / "notes").mkdir()
    (signed / "notes" / "letters.md").write_text("---\nflow: letters\n---\nThe harbour master reads these.\n")
    settings = signed / "zeitbuch.toml"
    settings.write_text('notes = "notes"\n' + settings.read_text())
    assert run("document", "-o", "site", cwd=signed).code == 0
    assert run("review", "packet", "-o", "packet.zip", cwd=signed).code == 0
    place = unpacked(signed) / "documents"
    assert "The harbour master reads these." in (place / "letters.html").read_text()
    for name in ("letters.html", "sh-1090.html", "maps/letters.html"):
        written = (signed / "site" / name).read_text()
        assert (place / name).read_text().rstrip("\n") == written[: written.index("\n<!-- written by")]


def test_secrets_are_in_it_only_where_originals_are_asked_for(signed: Path, run: Run) -> None:
    letters = signed / "november" / "strandline" / "berth-delay.json"
    data = json.loads(letters.read_text())
    station = data["sheet"]["stations"][1]
    station["authorization"] = f"Bearer {SECRETS[0]}"
    station["password"] = SECRETS[1]
    data["sheet"]["about"] += f" api_key={SECRETS[2]}"
    letters.write_text(json.dumps(data))
    assert run("record", cwd=signed).code == 0
    assert run("review", "packet", "-o", "packet.zip", cwd=signed).code == 0
    texts = {path: path.read_bytes() for path in unpacked(signed).rglob("*") if path.is_file()}
    assert not [(path, secret) for path, text in texts.items() for secret in SECRETS if secret.encode() in text]
    ran = run("review", "packet", "--originals", "-o", "whole.zip", cwd=signed)
    assert ran.code == 0 and "with whatever secrets they hold" in ran.err
    place = unpacked(signed, "whole.zip")
    assert SECRETS[1] in (place / "originals" / "strandline" / "berth-delay.json").read_text()
    assert "they hold whatever secrets" in (place / "README.md").read_text()


def test_wrong_use_is_told(demo: Path, run: Run) -> None:
    assert "expected -o FILE.zip beside packet" in run("review", "packet", cwd=demo).err
    assert run("review", "packet", "-o", "x.tar", cwd=demo).code == 2
    ran = run("review", "packet", "-o", "x.zip", cwd=demo)
    assert ran.code == 2 and "book" in ran.err and not (demo / "x.zip").exists()


@pytest.mark.skipif(SUMS is None, reason="sha256sum is not installed")
def test_names_of_any_letters_are_listed_as_the_program_reads_them(tmp_path: Path) -> None:
    files = {"a b.txt": b"1", "back\\slash": b"2", "line\nend": b"3", "ü/é.txt": b"4"}
    for name, data in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(data)
    (tmp_path / "sums").write_bytes(sums_of(files))
    assert holds(tmp_path, "sums")
    assert to_archive(files) == to_archive(dict(reversed(files.items())))
