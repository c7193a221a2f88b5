# Workers of a Dask cluster. What a piece of work needs goes to each of them once; they see none of our files, so that inputs travel as bytes.
# A worker that is lost takes nothing with it: its pieces go to the others, and what they need is sent again.
"""Work on a Dask cluster."""

from __future__ import annotations

import contextlib
import hashlib
import logging
import threading
import time
from collections import deque
from collections.abc import Iterable, Iterator
from typing import Any

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.plugins.state import state_of_packages
from zeitbuch.version import __version__

from .worker_processes import Ended, Setting

WITHIN = 15  # seconds for a scheduler to answer, and for a first worker to be there
_AHEAD = 3  # pieces for each thread of the cluster that are sent before the first is back
_TRIES = 5  # of a piece whose worker was lost
_PAUSE = 0.3
_states = threading.local()


def _state_of_program() -> str:
    """What must be the same here and there: our version, and packages that add readers."""
    return f"{__version__} {hashlib.sha256(b' '.join(state_of_packages())).hexdigest()[:12]}"


def _work_on_piece(mark: str, packed: bytes, piece: Any) -> Any:
    """Runs on a worker: each of its threads begins once for a setting."""
    import pickle

    known: dict[str, tuple[Setting, Any]] = _states.__dict__.setdefault("known", {})
    if mark not in known:
        known.clear()  # of an earlier task: nobody will ask for it again
        setting: Setting = pickle.loads(packed)
        known[mark] = setting, setting.begin(*setting.given)
    setting, state = known[mark]
    return setting.work(state, piece)


class DaskWorkers:
    """The workers of the cluster whose scheduler is at ``address``; use in ``with``. Raises ZeitbuchError where there is none, no worker is
    there, or other versions of Zeitbuch are."""

    far = True

    def __init__(self, address: str) -> None:
        self.address = address
        with telling_missing():
            import distributed
        begin: Any = distributed.Client
        logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what is lost is told by us
        try:
            self.client = begin(address, timeout=WITHIN, set_as_default=False)
        except (OSError, ValueError, TimeoutError) as error:
            reason = " ".join(str(error).split()) or type(error).__name__
            raise self._problem(f"expected a Dask scheduler at {address}, found: {reason}") from None

    def __enter__(self) -> DaskWorkers:
        try:
            self._check_workers()
        except BaseException:
            self.client.close(timeout=2)
            raise
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):
            self.client.close(timeout=5)

    def _check_workers(self) -> None:
        try:
            self.client.wait_for_workers(1, timeout=WITHIN)
        except TimeoutError:
            raise self._problem(f"expected workers at {self.address}, found none within {WITHIN} s") from None
        try:
            told = self.client.run(_state_of_program)
        except Exception as error:  # whatever a worker has to say: mostly that it has no such module
            raise self._problem(
                f"expected Zeitbuch {__version__} on all workers, found: {type(error).__name__}: {error}"
            ) from None
        others = {worker: state for worker, state in told.items() if state != _state_of_program()}
        if others:
            worker, state = sorted(others.items())[0]
            version = state.split()[0]
            found = (
                f"{version} on {worker}" if version != __version__ else f"other packages that add readers on {worker}"
            )
            raise self._problem(f"expected Zeitbuch {__version__} with the same packages on all workers, found {found}")

    def _problem(self, message: str) -> ZeitbuchError:
        return fail(
            "workers",
            message,
            "start them with `dask scheduler` and `dask worker`, in environments like this one (docs/scale.md)",
        )

    def count_for(self, amount: int, fewest: int) -> int:
        return max(2, sum(self.client.nthreads().values())) if amount >= fewest else 1

    def share(self, setting: Setting, pieces: Iterable[Any]) -> Iterator[Any]:
        import cloudpickle

        run = _Run(self, cloudpickle.dumps(setting))
        waiting: deque[tuple[Any, Any]] = deque()
        most = _AHEAD * self.count_for(1, 0)
        try:
            for piece in pieces:
                waiting.append((piece, run.submit(piece)))
                if len(waiting) >= most:
                    yield run.result(*waiting.popleft())
            while waiting:
                yield run.result(*waiting.popleft())
        finally:
            with contextlib.suppress(Exception):
                self.client.cancel([future for _, future in waiting])


class _Run:
    """One setting, sent to the workers, and pieces that are worked on with it."""

    def __init__(self, workers: DaskWorkers, packed: bytes) -> None:
        self.workers, self.packed = workers, packed
        self.mark = hashlib.sha256(packed).hexdigest()
        self.sent = self._send()

    def _send(self) -> Any:
        return self.workers.client.scatter(self.packed, broadcast=True, hash=False)

    def submit(self, piece: Any) -> Any:
        return self.workers.client.submit(_work_on_piece, self.mark, self.sent, piece, pure=False)

    def result(self, piece: Any, future: Any) -> Any:
        """What became of a piece; where it, or what it needs, went with a worker, it is sent again. Raises what the work raised."""
        from distributed import KilledWorker

        for _ in range(_TRIES):
            try:
                return future.result()
            except KilledWorker:
                return Ended(None)
            except Exception:
                if future.status == "error":  # of the work, not of who does it
                    raise
            future = self._submit_again(piece)
        raise self._lost()

    def _submit_again(self, piece: Any) -> Any:
        client = self.workers.client
        for _ in range(_TRIES):
            try:  # whatever the library says of a cluster that is gone
                client.wait_for_workers(1, timeout=WITHIN)
            except Exception:
                break
            try:
                self.sent = self._send()
                return self.submit(piece)
            except Exception:
                if client.status != "running":
                    break
                time.sleep(_PAUSE)  # a worker that has just ended is still taken for one of them
        raise self._lost() from None

    def _lost(self) -> ZeitbuchError:
        return self.workers._problem(f"expected the cluster at {self.workers.address} to go on, found that it is lost")
