# What every use case begins with: where to read, with which dialects and limits, and the place where all that is wrong in
# the input gathers. The command line fills it from options and the workspace file, Python from arguments.
"""Reading estates."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING, Any, TypeVar

from msgspec import structs

from zeitbuch.book.lines import line_key
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.resting_flows import resting_if_many
from zeitbuch.core.report.inventory import Row, inventory_row
from zeitbuch.readers.config.workspace import Workspace
from zeitbuch.readers.dialects.rules import Dialect, has_files_beside, suffixes_of
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import STDIN, STDIN_NAME, Held, Input, input_digests, is_address, list_files
from zeitbuch.readers.reading.cache import cache_folder, digest_key
from zeitbuch.readers.reading.parallel import ReadingRun, ReadingSetting
from zeitbuch.readers.reading.tally import Package, Tally

from .progress import ShowProgress, no_progress
from .sources import BookPlace, inputs_around, inputs_of, names_recorded_flow, recorded_flow
from .unreadable import Side, side_of

if TYPE_CHECKING:
    from zeitbuch.readers.reading.reader import Reader  # a run that finds all in the cache needs none

T = TypeVar("T")
BOOK_NAME = "book.sqlite"


def _told_together(missing: Sequence[Problem]) -> Problem:
    """Of several sources where nothing is one problem: the first, with where nothing is either."""
    first, *others = missing
    if not others:
        return first
    places = ", ".join([str(other.origin) for other in others])
    return structs.replace(first, hint=f"{first.hint}; nothing to read is at {places} either")


class Session:
    """Sources, dialects and limits of one task. ``problems`` holds what was wrong in the input, in order, ``packages`` what
    was in packages, ``kept`` the bytes of inputs that cannot be read again for the place of a message."""

    def __init__(
        self,
        workspace: Workspace | None = None,
        dialects: Sequence[Dialect] = (),
        limits: Limits | None = None,
        *,
        book: str = "",
        line: str = "",
        cache: bool = True,
        progress: ShowProgress = no_progress,
    ) -> None:
        self.workspace = workspace or Workspace()
        self.dialects = list(dialects)
        self.limits = limits or Limits()
        self.book = book or self._book_of_workspace()
        self.line = line_key(line or self.workspace.line)
        self.cache = cache
        self.progress = progress
        self.problems: list[Problem] = []
        self.packages: list[Package] = []
        self.kept: dict[str, Held] = {}
        self.untriggered: set[str] = set()
        self._digest_key = b""
        self._named: set[str] = set()  # what was named itself, not found in a folder
        self._only: dict[str, str] = {}  # inputs of which one flow is meant: its id
        self._around: list[Held] = []  # where files that belong to others are looked up, beside the inputs
        self.sides: list[Side] = []  # the files of the versions compared, the older first

    def _book_of_workspace(self) -> str:
        named = self.workspace.book
        return named if "://" in named else self.workspace.path_from_here(named or BOOK_NAME)

    @property
    def book_place(self) -> BookPlace:
        """Where the book is, and its line where none is named."""
        return BookPlace(self.book, self.line)

    def sources(self, given: Sequence[str]) -> list[str]:
        """The sources given, or the workspace's. Raises ZeitbuchError when there are none."""
        if given:
            return list(given)
        if not self.workspace.sources:
            raise fail(
                "source-none",
                "expected a SOURCE or a workspace file zeitbuch.toml that names one, found neither",
                "name a file or folder, or run `zeitbuch init`",
            )
        return [self.workspace.path_from_here(source) for source in self.workspace.sources]

    def inputs(self, sources: Sequence[str]) -> list[Input]:
        """What the sources name: files, folders and packages as they are, revisions and recorded states as bytes."""
        self._named |= {source if source != STDIN else STDIN_NAME for source in sources}
        also = suffixes_of(self.dialects)
        found: list[Input] = []
        for source in sources:
            if names_recorded_flow(source):
                found.append(self._recorded_flow(source))
                continue
            inputs = self._inputs_of(source, also)
            if has_files_beside(self.dialects):
                self._around += inputs_around(source, inputs, self.limits, also)
            found += inputs
        missing = [one for one in found if isinstance(one, Problem) and one.severity == "error"]
        if found and len(missing) == len(found):  # what is said of nothing would be said of the estate
            raise ZeitbuchError(_told_together(missing))
        return found

    def files_of(self, sources: Sequence[str], also: tuple[str, ...]) -> list[Input]:
        """The files of paths and addresses alone, no recorded states."""
        return [
            one
            for source in sources
            for one in (self._inputs_of(source, also) if is_address(source) else list_files([source], also))
        ]

    def _inputs_of(self, source: str, also: tuple[str, ...]) -> list[Input]:
        if not is_address(source):
            return inputs_of(source, self.limits, self.book_place, also)
        from zeitbuch.readers.input.remote import fetch_files  # few sources are far away

        with ExitStack() as stack:
            steps: list[Callable[[int], None]] = []

            def advance(done: int, count: int) -> None:
                if not steps:
                    steps.append(stack.enter_context(self.progress(count, "fetching")))
                steps[0](done)

            return [*fetch_files(source, self.limits, also, cache_folder() if self.cache else None, advance)]

    def _recorded_flow(self, source: str) -> Held:
        flow = recorded_flow(source, self.book_place, has_files_beside(self.dialects))
        self._only[flow.held.name] = flow.id
        self._around += flow.around
        return flow.held

    def _is_meant(self, one: object) -> bool:
        """Whether a flow, or the row of one, is no neighbour of the one that its source names."""
        if not self._only:
            return True
        source = (
            one.source if isinstance(one, Row) else one.origin.source if isinstance(one, Flow) and one.origin else ""
        )
        wanted = next((id for name, id in self._only.items() if source.startswith(name)), None)
        return wanted is None or getattr(one, "id", None) == wanted

    def flows(self, given: Sequence[str]) -> Iterator[Flow]:
        """The flows of the sources one by one."""
        yield from self._read_inputs(self._reading_setting(), self.inputs(self.sources(given)), _same_flow, Flow)

    def estate(self, given: Sequence[str], resting: bool = False) -> Estate:
        """All flows of the sources at once; with ``resting`` many of them rest as bytes, and each is another object whenever it is asked
        for."""
        return Estate(flows=resting_if_many(self.flows(given)) if resting else tuple(self.flows(given)))

    def estate_of(self, inputs: Sequence[Input], among: Sequence[Held] = ()) -> Estate:
        """All flows of inputs already listed. What belongs to them is looked up ``among`` others, too."""
        setting = self._reading_setting()._replace(held=[*self._around, *among])
        return Estate(flows=tuple(self._read_inputs(setting, inputs, _same_flow, Flow)))

    def rows(self, given: Sequence[str]) -> list[Row]:
        """The inventory rows of all flows of the sources, read no further than a row needs."""
        models = self.workspace.model
        # Prompts of a model map stand among the inputs, which an outline leaves out.
        setting = self._setting(outline=not models, models=models, texts=bool(models))
        rows = list(self._read_inputs(setting, self.inputs(self.sources(given)), inventory_row, Row))
        # That nothing starts a flow shows only when all flows are read.
        return [structs.replace(row, findings=row.findings + 1) if row.id in self.untriggered else row for row in rows]

    def by_file(self, given: Sequence[str]) -> list[tuple[str, list[Flow]]]:
        """The flows of every input by itself, with its name."""
        inputs = self.inputs(self.sources(given))
        reader = self.make_reader()
        reader.hold_inputs(inputs)
        found: list[tuple[str, list[Flow]]] = []
        with self.progress(len(inputs), "reading") as advance:
            for place, one in enumerate(inputs):
                flows = list(reader.flows_of([one]))
                if not isinstance(one, Problem):
                    found.append((one if isinstance(one, str) else one.name, flows))
                advance(place)
        reader.finish_reading()
        self._take_over(reader)
        return found

    def versions(self, old: str, new: str | None) -> tuple[Estate, Estate]:
        """Two versions, each whole. Files with the same bytes on both sides are read once, and told once."""
        return self.compare_inputs(self.inputs([old]), self.inputs(self.sources([new] if new else [])))

    def compare_inputs(self, first_inputs: list[Input], second_inputs: list[Input]) -> tuple[Estate, Estate]:
        """Two versions from inputs already listed."""
        sides = [first_inputs, second_inputs]
        marks = [input_digests(side, self.limits) for side in sides]
        with self.progress(len(sides[0]) + len(sides[1]), "reading") as advance:
            first, reads = self._read_side(sides[0], {}, 0, advance)
            alike = {} if has_files_beside(self.dialects) else reads
            spots = {mark: index for index, mark in enumerate(marks[0]) if mark is not None and index in alike}
            ready = {
                inner: reads[spots[mark]] for inner, mark in enumerate(marks[1]) if mark is not None and mark in spots
            }
            second, _ = self._read_side(sides[1], ready, len(sides[0]), advance)
        return first, second

    def _read_side(
        self, inputs: list[Input], ready: dict[int, Any], before: int, advance: Callable[[int], None]
    ) -> tuple[Estate, dict[int, Any]]:
        run = ReadingRun(self._reading_setting(), inputs, _same_flow, Flow, cache=self.cache, ready=ready, keep=True)
        flows: list[Flow] = []
        for done, found in run:
            flows += [flow for flow in found if self._is_meant(flow)]
            advance(before + done)
        self._take_over(run.tally, once=True)
        self.sides.append(side_of(inputs, run.tally.problems))
        return Estate(tuple(flows)), run.reads

    def make_reader(self) -> Reader:
        """A reader for inputs one by one."""
        return self._reading_setting().make_reader()

    def _reading_setting(self) -> ReadingSetting:
        return self._setting(models=self.workspace.model)

    def _setting(self, **words: Any) -> ReadingSetting:
        """A setting with the secret words of the workspace, and one key for all secrets of the task."""
        if not self._digest_key:
            self._digest_key = digest_key(self.cache)
        return ReadingSetting(
            self.dialects,
            self.limits,
            secrets=self.workspace.secret_words,
            digest_key=self._digest_key,
            held=self._around,
            **words,
        )

    def _read_inputs(
        self, setting: ReadingSetting, inputs: Sequence[Input], make: Callable[[Flow], T | None], kind: type[T]
    ) -> Iterator[T]:
        run = ReadingRun(setting, inputs, make, kind, cache=self.cache)
        with self.progress(len(inputs), "reading") as advance:
            for done, found in run:
                yield from filter(self._is_meant, found)
                advance(done)
        self._take_over(run.tally)

    def _take_over(self, tally: Tally, once: bool = False) -> None:
        """What a reading has left; with ``once`` problems that are known already are not told again."""
        found = [self._weighed(problem) for problem in tally.problems]
        self.problems += [problem for problem in found if not once or problem not in self.problems]
        self.packages += tally.packages
        self.kept |= tally.kept
        self.untriggered |= tally.untriggered

    def _weighed(self, problem: Problem) -> Problem:
        """A file that is no flow is an error where it was named itself."""
        origin = problem.origin
        if (
            problem.code != "other-kind"
            or origin is None
            or origin.member is not None
            or origin.source not in self._named
        ):
            return problem
        return structs.replace(problem, severity="error")


def _same_flow(flow: Flow) -> Flow:
    return flow
