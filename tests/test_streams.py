"""Streams: devices, pipes and links are written through; full, closed and broken ones cost one line; nothing is left behind."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import Run
from test_bad_input import GOOD


@pytest.fixture
def export(tmp_path: Path) -> Path:
    (tmp_path / "good.json").write_text(GOOD)
    return tmp_path


def shell(line: str, folder: Path) -> subprocess.CompletedProcess[str]:
    program = f"{sys.executable} -m zeitbuch"
    return subprocess.run(
        ["bash", "-c", line.replace("zeitbuch", program)], cwd=folder, capture_output=True, text=True, timeout=60
    )


def test_devices_pipes_and_links_are_written_through(export: Path, run: Run) -> None:
    assert run("inventory", "good.json", "-o", "/dev/null").code == 0
    assert not Path("/dev/null").is_file()
    (export / "real").mkdir()
    (export / "link.txt").symlink_to(export / "real" / "out.txt")
    assert run("inventory", "good.json", "-o", "link.txt").code == 0
    assert (export / "link.txt").is_symlink() and "Good" in (export / "real" / "out.txt").read_text()
    os.mkfifo(export / "pipe.txt")
    reader = subprocess.Popen(["cat", "pipe.txt"], cwd=export, stdout=subprocess.PIPE, text=True)
    assert run("inventory", "good.json", "-o", "pipe.txt").code == 0
    assert "Good" in reader.communicate(timeout=10)[0] and (export / "pipe.txt").is_fifo()


def test_full_closed_and_broken_streams_cost_one_line(export: Path) -> None:
    if Path("/dev/full").exists():
        done = shell("zeitbuch inventory good.json > /dev/full", export)
        assert done.returncode == 2 and done.stderr.count("\n") == 1 and "No space left" in done.stderr
        done = shell("zeitbuch inventory good.json 2> /dev/full", export)
        assert done.returncode == 0 and "Good" in done.stdout
        done = shell("zeitbuch inventory absent.json 2> /dev/full", export)
        assert done.returncode == 2 and done.stderr == ""
    done = shell("zeitbuch inventory good.json >&-", export)
    assert done.returncode == 2 and done.stderr.count("\n") == 1
    done = shell("zeitbuch inventory good.json absent.json 2>&-", export)
    assert done.returncode == 2 and "Good" in done.stdout
    done = shell("zeitbuch convert good.json | head -c 1 > out; echo ${PIPESTATUS[0]}", export)
    assert done.stdout.strip() == "0" and done.stderr == ""


def test_an_interrupt_leaves_nothing_behind(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for place in range(400):
        (folder / f"f{place}.json").write_text(GOOD.replace('"good"', f'"f{place}"'))
    # counted from where our own code begins: what the interpreter says of an interrupt before that is not ours
    begun = (
        "import sys\nsys.argv[0] = 'zeitbuch'\nimport zeitbuch.cli.main as main\n"
        "print('begun', file=sys.stderr, flush=True)\nmain.run()\n"
    )
    for wait in (0.0, 0.05, 0.2, 0.5):
        work = subprocess.Popen(
            [sys.executable, "-c", begun, "document", "in", "-o", "docs", "--no-cache"],
            cwd=tmp_path,
            stderr=subprocess.PIPE,
            text=True,
        )
        assert work.stderr is not None and work.stderr.readline() == "begun\n"
        time.sleep(wait)
        work.send_signal(signal.SIGINT)
        err = work.communicate(timeout=30)[1]
        assert "Traceback" not in err and work.returncode in (0, 130, -2), err
        assert not list(tmp_path.rglob(".zeitbuch.*"))


@pytest.mark.parametrize(("rest", "imported"), [("pass", True), ("time.sleep(60)", False)])
def test_an_interrupt_waits_for_the_end_of_an_import_but_not_for_ever(export: Path, rest: str, imported: bool) -> None:
    # a compiled module that is interrupted while it is imported may lose the interrupt, and crash when it is used
    module = f"import os, signal, time\nos.kill(os.getpid(), signal.SIGINT)\n{rest}\nprint('imported', flush=True)\n"
    (export / "made_here.py").write_text(module)
    code = (
        "import sys, zeitbuch.cli.commands.inventory as command, zeitbuch.cli.main as main\n"
        "import zeitbuch.cli.shared.last_guard as last_guard\n"
        "last_guard._MOST_WAITS = 20\n"
        "def works(args):\n    import made_here, time\n    time.sleep(60)\n"
        "command.run = works\n"
        "sys.argv = ['zeitbuch', 'inventory', 'good.json']\n"
        "main.run()\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=export, capture_output=True, text=True, timeout=30)
    assert done.returncode == 130 and done.stderr == "stopped\n"
    assert ("imported" in done.stdout) is imported


def test_a_fault_of_ours_is_one_line_with_what_to_report(export: Path) -> None:
    code = (
        "import sys, zeitbuch.cli.commands.inventory as command, zeitbuch.cli.main as main\n"
        "def broken(args): raise KeyError('never foreseen')\n"
        "command.run = broken\n"
        "sys.argv = ['zeitbuch', 'inventory', 'good.json'] + sys.argv[1:]\n"
        "main.run()\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=export, capture_output=True, text=True)
    assert done.returncode == 2 and done.stderr.count("\n") == 1
    assert "a fault of Zeitbuch" in done.stderr and "never foreseen" in done.stderr and "[fault]" in done.stderr
    done = subprocess.run([sys.executable, "-c", code, "--verbose"], cwd=export, capture_output=True, text=True)
    assert done.returncode == 2 and "Traceback" in done.stderr and "[fault]" in done.stderr
