# Runs over many files: what the cache knows is not read again, the rest is read by worker processes, and all comes out
# in the order of the inputs, with the same messages as on one core. Between processes and in the cache results travel
# as bytes.
"""Reading many files: in parallel, and only what has changed."""

from __future__ import annotations

import hashlib
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, TypeVar

import msgspec
from msgspec import Struct

from zeitbuch.core.model.model_map import ModelRule
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.plugins.state import state_of_packages
from zeitbuch.readers.dialects.rules import Dialect, has_files_beside
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import STDIN, Held, Input, load_input, name_of
from zeitbuch.readers.secrets.words import SecretWords

from .cache import Cache, content_hash, key_of
from .executors import Executor, Processes, current_executor, usable_cores
from .tally import Fact, Package, Tally
from .worker_processes import Ended, Setting

if TYPE_CHECKING:
    from .reader import Reader

T = TypeVar("T")
PIECE = 25
MANY = 150
MOST_READERS = 8  # processes, where nobody says how many: this one has to take what they read


class ReadingSetting(NamedTuple):
    """What a reading depends on beside the files."""

    dialects: list[Dialect]
    limits: Limits
    outline: bool = False
    models: Sequence[ModelRule] = ()
    texts: bool = True
    secrets: SecretWords | None = None
    digest_key: bytes = b""
    held: Sequence[Held] = ()  # inputs among which files that belong to others are looked up

    def make_reader(self) -> Reader:
        """A reader with this setting. Its parts are imported here: a run that finds all in the cache needs none."""
        from .reader import Reader

        made = Reader(self.dialects, self.limits, self.outline, self.models, self.texts, self.secrets, self.digest_key)
        made.hold_inputs(self.held)
        return made

    def cache_key(self, kind: str) -> str:
        """The key of the cache for results of a kind."""
        encode = msgspec.json.encode
        parts = [encode(self.dialects), encode(self.limits), encode(self.models), b"%d%d" % (self.outline, self.texts)]
        parts += [encode(self.secrets), hashlib.blake2b(self.digest_key, digest_size=16).digest()]
        return key_of([kind.encode(), *parts, *state_of_code(), *state_of_packages()])


@lru_cache(maxsize=1)
def state_of_code() -> tuple[bytes, ...]:
    """The state of our own code: what has changed must not find what an older state of it has read or worked out."""
    found = []
    readers = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    for room in (readers, os.path.join(os.path.dirname(readers), "core")):
        for base, folders, files in os.walk(room):
            folders[:] = sorted(name for name in folders if name != "__pycache__")
            for name in sorted(files):
                if name.endswith(".py"):
                    state = os.stat(os.path.join(base, name))
                    found.append(f"{name}{state.st_size}{state.st_mtime_ns}".encode())
    return tuple(found)


class Read(Struct, Generic[T], array_like=True):
    """What was read from one file."""

    results: list[T]
    problems: list[Problem]
    facts: list[Fact]
    packages: list[Package]
    called: list[str]


class _Answer(NamedTuple):
    """A worker's answer for one file. ``raw`` is None when the content is known to the cache, ``read`` is there when
    the result has no bytes (a value that cannot be encoded)."""

    name: str
    content: bytes
    state: tuple[int, int, int] | None
    raw: bytes | None
    read: Read[Any] | None = None


Known = frozenset[bytes] | None  # contents that the cache holds; None without a cache


def _begin_worker(setting: ReadingSetting, make: Callable[[Flow], Any], known: Known, own: bool) -> Any:
    """``own``: whether the process is one of ours, that does nothing else."""
    if own:
        import gc

        gc.set_threshold(200_000, 20, 100)
    return setting.make_reader(), make, known


def _read_piece(begun: tuple[Reader, Callable[[Flow], Any], Known], inputs: list[str | Held]) -> list[_Answer]:
    return [_read_one(*begun, name) for name in inputs]


def _read_one(reader: Reader, make: Callable[[Flow], Any], known: Known, one: str | Held) -> _Answer:
    name = name_of(one)
    reader.problems, reader.facts, reader.packages, reader.called, reader.kept = [], [], [], set(), {}
    reader.recognition.beyond_cache = False
    state, content = _state_of_file(one)

    def seen(data: bytes) -> bool:
        nonlocal content
        if known is None:
            return False
        content = content_hash(name, data)
        return content in known

    results = [made for flow in reader.flows_of([one], seen) if (made := make(flow)) is not None]
    if content and known is not None and content in known:
        return _Answer(name, content, state, None)
    problems = reader.problems
    if reader.unmasked and problems:
        from zeitbuch.readers.secrets.outlines import masked_problem

        problems = [masked_problem(problem, reader.masker) for problem in problems]  # they go into the cache
    read: Read[Any] = Read(results, problems, reader.facts, reader.packages, sorted(reader.called))
    if reader.recognition.beyond_cache:
        return _Answer(name, b"", state, None, read)
    try:
        return _Answer(name, content, state, msgspec.msgpack.encode(read))
    except (TypeError, ValueError, OverflowError):
        return _Answer(name, content, state, None, read)


def _state_of_file(one: str | Held) -> tuple[tuple[int, int, int] | None, bytes]:
    state = None
    content = b""
    path = one if isinstance(one, str) else one.path
    if path:
        try:
            found = os.stat(path)
            state = (found.st_size, found.st_mtime_ns, found.st_ino)
        except OSError:
            pass
    return state, content


class ReadingRun(Generic[T]):
    """One run over inputs: iterate for (inputs done, results), then ask ``tally`` for the problems."""

    def __init__(
        self, setting: ReadingSetting, inputs: Iterable[Input], make: Callable[[Flow], T | None], kind: type[T],
        cache: bool = True, workers: int = 0, ready: Mapping[int, Read[T]] | None = None, keep: bool = False,
    ) -> None:  # fmt: skip
        """``ready`` are inputs, by their place, that need no reading: their results are at hand. With ``keep`` what was read of every input
        stays in ``reads``."""
        self.inputs = list(inputs)
        if has_files_beside(setting.dialects):
            setting = setting._replace(held=[*setting.held, *(one for one in self.inputs if isinstance(one, Held))])
        self.setting = setting
        self.make = make
        self.tally = Tally()
        self.cache = Cache(setting.cache_key(kind.__name__)) if cache else None
        self.decode = msgspec.msgpack.Decoder(Read[kind]).decode  # type: ignore[valid-type]
        self.workers = workers
        self.ready = ready or {}
        self.keep = keep
        self.reads: dict[int, Read[T]] = {}

    def __iter__(self) -> Iterator[tuple[int, list[T]]]:
        kept, waiting = self._kept_and_waiting()
        answers = self._read_waiting(waiting)
        for place, name in enumerate(self.inputs):
            if isinstance(name, Problem):
                self.tally.problems.append(name)
                continue
            if name == STDIN and isinstance(name, str):
                yield from self._read_stdin(name, place)
                continue
            if place in self.ready:
                yield place + 1, self._merge_read(self.ready[place])
                continue
            if isinstance(name, Held):
                self.tally.kept[name.name] = name
            raw = kept.pop(place, None)
            read = (
                self._take_answer(next(answers), name)
                if raw is None
                else self._decode_read(raw) or self._read_again(name)
            )
            if self.keep:
                self.reads[place] = read
            yield place + 1, self._merge_read(read)
        self.tally.finish_reading()
        if self.cache is not None:
            self.cache.save_cache()

    def _kept_and_waiting(self) -> tuple[dict[int, bytes], list[str | Held]]:
        kept: dict[int, bytes] = {}
        waiting: list[str | Held] = []
        for place, name in enumerate(self.inputs):
            if isinstance(name, Problem) or name == STDIN or place in self.ready:
                continue
            raw = (
                self.cache.by_state(name_of(name), name if isinstance(name, str) else name.path)
                if self.cache is not None
                else None
            )
            if raw is None:
                waiting.append(name)
            else:
                kept[place] = raw
        return kept, waiting

    def _read_stdin(self, name: str, place: int) -> Iterator[tuple[int, list[T]]]:
        reader = self.setting.make_reader()
        found = [made for flow in reader.flows_of([name]) if (made := self.make(flow)) is not None]
        self.tally.kept |= reader.kept
        yield (
            place + 1,
            self._merge_read(Read(found, reader.problems, reader.facts, reader.packages, sorted(reader.called))),
        )

    def _decode_read(self, raw: bytes) -> Read[T] | None:
        try:
            return self.decode(raw)
        except msgspec.MsgspecError:
            return None

    def _take_answer(self, answer: _Answer, name: str | Held) -> Read[T]:
        raw = answer.raw
        if answer.read is not None:
            return answer.read
        if raw is None and self.cache is not None:
            raw = self.cache.entry_of(answer.content)
        read = self._decode_read(raw) if raw is not None else None
        if read is None or raw is None:
            return self._read_again(name)
        if self.cache is not None and answer.content:
            self.cache.put_entry(answer.name, answer.content, answer.state, raw)
        return read

    def _read_again(self, name: str | Held) -> Read[T]:
        """What a damaged entry of the cache should have held."""
        reader = self.setting.make_reader()
        results = [made for flow in reader.flows_of([name]) if (made := self.make(flow)) is not None]
        return Read(results, reader.problems, reader.facts, reader.packages, sorted(reader.called))

    def _merge_read(self, read: Read[T]) -> list[T]:
        tally = self.tally
        # What is wrong with a plug-in is wrong for every file: it is told once.
        tally.problems += [
            problem for problem in read.problems if problem.code != "plugin" or problem not in tally.problems
        ]
        tally.facts += read.facts
        tally.packages += read.packages
        tally.called.update(read.called)
        return read.results

    def _read_waiting(self, waiting: list[str | Held]) -> Iterator[_Answer]:
        known = self.cache.contents() if self.cache is not None else None
        executor = Processes(self.workers) if self.workers else current_executor()
        if isinstance(executor, Processes) and not executor.count:
            executor = Processes(min(usable_cores(), MOST_READERS), executor.method)
        if executor.far and has_files_beside(self.setting.dialects):
            executor = Processes(method="spawn")  # what belongs to a file is looked for beside it, here
        if executor.count_for(len(waiting), 0 if self.workers else MANY) == 1:
            reader = self.setting.make_reader()
            for name in waiting:
                yield _read_one(reader, self.make, known, name)
            return
        self.setting.make_reader()  # loads its parts before the processes fork: each would load them for itself
        pieces = [waiting[index : index + PIECE] for index in range(0, len(waiting), PIECE)]
        if executor.far:
            yield from _read_far(executor, self.setting, self.make, known, pieces)
            return
        setting = Setting(_begin_worker, (self.setting, self.make, known, True), _read_piece)
        for piece, answers in zip(pieces, executor.share(setting, pieces), strict=True):
            yield from _read_singly(piece, setting) if isinstance(answers, Ended) else answers


def _read_far(
    executor: Executor, reading: ReadingSetting, make: Callable[[Flow], Any], known: Known, pieces: Sequence[list[str | Held]]
) -> Iterator[_Answer]:  # fmt: skip
    """Inputs read by workers that do not see our files: they get the bytes. What cannot be read here is told here."""
    setting = Setting(_begin_worker, (reading, make, known, False), _read_piece)
    here = Setting(_begin_worker, (reading, make, known, True), _read_piece)
    states: deque[list[tuple[int, int, int] | None]] = deque()

    def with_bytes(piece: list[str | Held]) -> list[str | Held]:
        states.append([_state_of_file(one)[0] for one in piece])
        loaded = [(one, load_input(one, reading.limits).data) for one in piece]
        return [Held(name_of(one), data) for one, data in loaded if isinstance(data, bytes)]

    for piece, answers in zip(pieces, executor.share(setting, map(with_bytes, pieces)), strict=True):
        read = {}
        if not isinstance(answers, Ended):
            read = {answer.name: answer for answer in answers}
        left = [one for one in piece if name_of(one) not in read]
        ours = dict(zip(map(name_of, left), _read_singly(left, here, "spawn"), strict=True)) if left else {}
        for one, state in zip(piece, states.popleft(), strict=True):
            name = name_of(one)
            yield read[name]._replace(state=state) if name in read else ours[name]


def _read_singly(inputs: list[str | Held], setting: Setting, method: str | None = None) -> Iterator[_Answer]:
    """The inputs of a piece over which a process ended, each by itself: the one that does it is named, the others are read."""
    for one, answers in zip(inputs, Processes(1, method).share(setting, [[one] for one in inputs]), strict=True):
        yield _not_read(one, str(answers)) if isinstance(answers, Ended) else answers[0]


def _not_read(one: str | Held, reason: str) -> _Answer:
    name = name_of(one)
    hint = "read it by itself on a machine with more memory; if it ends there too, report it"
    problem = Problem("process-ended", "error", f"expected to read the file, found that {reason}", Origin(name), hint)
    return _Answer(name, b"", None, None, Read([], [problem], [], [], []))
