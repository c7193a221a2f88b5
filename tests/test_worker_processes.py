"""Worker processes: what they make comes in order, and whatever ends one, or all of them, ends no more than that."""

import multiprocessing
import os
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from test_bad_input import GOOD
from zeitbuch.app.parallel_work import FEWEST, share_work
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.readers.reading.worker_processes import Ended, Setting, Workers

SLOWER = 40_000


def double(_: None, piece: int) -> Any:
    if piece == 13:
        os.kill(os.getpid(), signal.SIGKILL)
    if piece == 14:
        raise ValueError("fourteen")
    if piece == 15:
        return lambda: None  # cannot be sent
    sum(range(SLOWER * (piece % 3)))
    return piece * 2


def upper(_: None, piece: bytes) -> bytes:
    return piece.upper()


def begin_well() -> None:
    pass


def workers(count: int = 3) -> Workers:
    return Workers(multiprocessing.get_context(), count, Setting(begin_well, (), double))


def test_results_come_in_the_order_of_the_pieces() -> None:
    pieces = [piece for piece in range(60) if piece not in (13, 14, 15)]
    with workers() as shared:
        assert list(shared.share_pieces(pieces)) == [piece * 2 for piece in pieces]
    assert not multiprocessing.active_children()


def test_a_process_that_dies_costs_its_own_piece_only() -> None:
    with workers() as shared:
        assert list(shared.share_pieces([13, 1, 13, 2, 3, 13])) == [Ended(-9), 2, Ended(-9), 4, 6, Ended(-9)]
    assert "signal 9" in str(Ended(-9)) and "memory" in str(Ended(-9)) and "status 3" in str(Ended(3))


@pytest.mark.parametrize(("piece", "error", "words"), [(14, ValueError, "fourteen"), (15, RuntimeError, "pickle")])
def test_what_a_worker_raises_is_raised_here(piece: int, error: type[Exception], words: str) -> None:
    with pytest.raises(error, match=words), workers() as shared:
        list(shared.share_pieces([1, piece, 2]))
    assert not multiprocessing.active_children()


def test_large_pieces_and_results_pass() -> None:
    with Workers(multiprocessing.get_context(), 2, Setting(begin_well, (), upper)) as shared:
        made = list(shared.share_pieces([b"a" * 3_000_000] * 8))
    assert made == [b"A" * 3_000_000] * 8


def test_an_interrupt_at_any_moment_ends_all_workers() -> None:
    for after in range(1, 40):
        signal.signal(signal.SIGALRM, signal.default_int_handler)
        try:
            # Within: on a busy machine it may come at once. And again: one that comes within a destructor or a call of the collector is
            # swallowed by the interpreter, and this loop would start processes until there is no memory.
            signal.setitimer(signal.ITIMER_REAL, after * 0.0007, 0.2)
            with workers() as shared:
                for _ in range(400):
                    list(shared.share_pieces([1, 2]))
            raise AssertionError("the interrupt did not come")
        except KeyboardInterrupt:
            pass
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, signal.SIG_DFL)
        assert not multiprocessing.active_children()


def test_work_on_flows_that_ends_its_process_is_an_error_with_a_name() -> None:
    def end(places: range) -> int:
        os._exit(3)

    if len(os.sched_getaffinity(0)) < 2:
        pytest.skip("work is shared out on two cores or more")
    with pytest.raises(ZeitbuchError, match=r"status 3 \[process-ended\]"):
        list(share_work(end, FEWEST))


def test_the_file_over_which_a_process_ends_is_named_and_all_others_are_read(tmp_path: Path) -> None:
    for place in range(200):
        (tmp_path / f"f{place}.json").write_text(GOOD.replace('"good"', f'"f{place}"'))
    code = (
        "import os, sys, zeitbuch.cli.main as main\n"
        "from zeitbuch.readers.reading.reader import Reader\n"
        "whole = Reader.flows_of\n"
        "def ends(self, inputs, *rest):\n"
        "    if str(inputs[0]).endswith('f77.json'): os.kill(os.getpid(), 9)\n"
        "    return whole(self, inputs, *rest)\n"
        "Reader.flows_of = ends\n"
        "sys.argv = ['zeitbuch', 'inventory', '.', '--no-cache', '-f', 'csv']\n"
        "main.run()\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True)
    lines = done.stdout.splitlines()
    assert done.returncode == 2 and "Traceback" not in done.stderr
    assert (
        "f77.json: error:" in done.stderr
        and "[process-ended]" in done.stderr
        and done.stderr.count("[process-ended]") == 1
    )
    assert sum(".json" in line for line in lines) == 199 and not any("f77.json" in line for line in lines)
