"""Packages: flows among other objects, nested packages, and what a hostile package may not do."""

from __future__ import annotations

import io
import json
import tarfile
import zipfile
from pathlib import Path

import pytest

from conftest import ESTATE, Run, read

GOOD = json.dumps(
    {"zeitbuch": 1, "flows": [{"id": "good", "name": "Good", "triggers": [{"id": "t", "kind": "manual"}]}]}
).encode()


def zipped(members: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for name, data in members.items():
            package.writestr(name, data)
    return out.getvalue()


def tarred(members: dict[str, bytes], mode: str = "w:gz") -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode) as package:  # type: ignore[call-overload]
        for name, data in members.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            package.addfile(info, io.BytesIO(data))
    return out.getvalue()


def estate() -> dict[str, bytes]:
    found = {f"flows/{p.name}": p.read_bytes() for p in sorted((ESTATE / "november").rglob("*")) if p.is_file()}
    return {**found, "readme.txt": b"hello", "tables/menu.json": b'{"menu": []}', "logo.png": b"\x89PNG"}


@pytest.mark.parametrize(
    ("name", "pack"), [("e.zip", zipped), ("e.tar.gz", tarred), ("e.tar", lambda m: tarred(m, "w:")), ("e.tgz", tarred)]
)
def test_package_gives_the_flows_of_its_folder(name: str, pack: object, demo: Path, run: Run) -> None:
    (demo / name).write_bytes(pack(estate()))  # type: ignore[operator]
    ran = run("inventory", name, "-f", "json", cwd=demo)
    assert ran.code == 0, ran.err
    assert f"{name}: 17 flows in 17 members, 3 other objects\n" in ran.err
    rows = json.loads(ran.out)["flows"]
    assert len(rows) == 17 and rows[0]["source"] == f"{name}!flows/berth-delay.json"
    assert run("diff", name, "november", cwd=demo).code == 0
    assert sorted(f.id for f in read(demo, name).flows) == sorted(f.id for f in read(demo, "november").flows)
    assert run("inventory", name, "-q", cwd=demo).err == ""


def test_nested_packages_and_folders_of_packages(demo: Path, run: Run) -> None:
    folder = demo / "packed"
    folder.mkdir()
    (folder / "a.zip").write_bytes(
        zipped({"deep/b.tar.gz": tarred({"c.zip": zipped({"good.json": GOOD})}), "x.json": b"{"})
    )
    ran = run("inventory", "packed", "-f", "json", cwd=demo)
    assert json.loads(ran.out)["flows"][0]["source"] == "packed/a.zip!deep/b.tar.gz!c.zip!good.json"
    assert ran.code == 2 and "packed/a.zip!x.json:1:2: error: expected complete JSON" in ran.err
    assert "1 flow in 1 member, 0 other objects, 1 could not be read" in ran.err


CASES: dict[str, tuple[bytes, str, str]] = {
    "cut off": (zipped({"good.json": GOOD})[:60], "expected a package that can be unpacked", "package"),
    "no package": (b"hello", "expected a package that can be unpacked", "package"),
    "path escape": (zipped({"../../etc/x.json": GOOD}), "found '../../etc/x.json'", "package-path"),
    "absolute path": (tarred({"/etc/x.json": GOOD}), "found '/etc/x.json'", "package-path"),
    "bomb": (b"", "at most bytes=268435456, found a member of 300,000,000 bytes", "limit"),
    "deep": (
        zipped({"a.zip": zipped({"b.zip": zipped({"c.zip": zipped({"d.json": GOOD})})})}),
        "at most nesting=3",
        "limit",
    ),
    "nothing in it": (
        zipped({"a.txt": b"x"}),
        "expected flows in the package, found none in 1 members",
        "package-empty",
    ),
}


@pytest.mark.parametrize("case", list(CASES))
def test_hostile_packages_are_refused_and_the_rest_is_read(case: str, tmp_path: Path, run: Run) -> None:
    data, expected, code = CASES[case]
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "bad.zip").write_bytes(data or zipped({"bomb.json": b" " * 300_000_000}))
    (folder / "good.json").write_bytes(GOOD)
    ran = run("inventory", "in", "-f", "csv")
    assert ran.code == 2 and "Good" in ran.out
    assert expected in ran.err and f"[{code}]" in ran.err and "Traceback" not in ran.err
    assert not (tmp_path / "etc").exists()


def test_limits_of_packages_can_be_lowered_and_are_named(tmp_path: Path, run: Run) -> None:
    (tmp_path / "a.zip").write_bytes(zipped({f"{i}.json": GOOD for i in range(5)}))
    assert "at most members=3" in run("inventory", "a.zip", "--limit", "members=3").err
    assert "at most unpacked=100" in run("inventory", "a.zip", "--limit", "unpacked=100").err
    (tmp_path / "t.tgz").write_bytes(tarred({"big.bin": b"\0" * 50_000, "x.json": GOOD}))
    assert "at most unpacked=1000" in run("inventory", "t.tgz", "--limit", "unpacked=1000").err


def test_links_and_devices_of_a_tar_are_no_members(tmp_path: Path, run: Run) -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as package:
        info = tarfile.TarInfo("link.json")
        info.type, info.linkname = tarfile.SYMTYPE, "/etc/passwd"
        package.addfile(info)
        good = tarfile.TarInfo("good.json")
        good.size = len(GOOD)
        package.addfile(good, io.BytesIO(GOOD))
    (tmp_path / "l.tgz").write_bytes(out.getvalue())
    ran = run("inventory", "l.tgz", "-f", "csv")
    assert ran.code == 0 and ran.out.count("\n") == 2
