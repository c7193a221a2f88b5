# What every command that reads sources shares: options declared once, the session, the report of problems.
"""Common options, sources and messages of the commands."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Flow

from .main import OK, WRONG

if TYPE_CHECKING:
    from zeitbuch.core.report.inventory import Row
    from zeitbuch.readers.input.limits import Limits
    from zeitbuch.readers.input.sources import Input
    from zeitbuch.readers.reading.parallel import Setting

T = TypeVar("T")


def add_reading(parser: argparse.ArgumentParser) -> None:
    """Options for how sources are read."""
    group = parser.add_argument_group("reading")
    group.add_argument(
        "--dialect", metavar="FILE", action="append", default=[], help="a dialect file to use; may be repeated"
    )
    group.add_argument(
        "--limit", metavar="NAME=N", action="append", default=[], help="raise a limit on inputs, e.g. text=5000000"
    )
    group.add_argument("--book", metavar="PLACE", help="book for @N: a file or a URL; default: the workspace's")
    group.add_argument(
        "--no-cache", action="store_true", help="read every file anew, and keep nothing for the next run"
    )
    add_talk(parser)


def add_talk(parser: argparse.ArgumentParser) -> None:
    """Options for how much is said on stderr."""
    group = parser.add_argument_group("messages")
    group.add_argument("-q", "--quiet", action="store_true", help="no progress, no warnings; errors only")
    group.add_argument("-v", "--verbose", action="store_true", help="notices too, beside errors and warnings")


def add_sources(parser: argparse.ArgumentParser) -> None:
    """The SOURCE arguments."""
    parser.add_argument(
        "source",
        metavar="SOURCE",
        nargs="*",
        help="file, folder, package (zip, tar.gz), git:REV[:PATH], @N of the book, or - for standard input; without it, "
        "the workspace's sources",
    )


def add_output(parser: argparse.ArgumentParser, formats: Sequence[str], default: str) -> None:
    """``--format`` and ``-o``; the format follows the suffix of FILE when not given."""
    group = parser.add_argument_group("output")
    group.add_argument(
        "-f", "--format", choices=list(formats), help=f"default: from the suffix of FILE, else {default}"
    )
    group.add_argument("-o", "--output", metavar="FILE", help="write to FILE instead of standard output")


_SUFFIX = {
    ".json": "json", ".csv": "csv", ".md": "markdown", ".markdown": "markdown", ".html": "html", ".htm": "html",
    ".svg": "svg", ".png": "png", ".txt": "table", ".yaml": "yaml", ".yml": "yaml", ".bpmn": "bpmn",
    ".dot": "dot", ".gv": "dot", ".graphml": "graphml", ".mmd": "mermaid", ".mermaid": "mermaid",
}  # fmt: skip


def chosen_format(args: argparse.Namespace, formats: Sequence[str], default: str) -> str:
    """The format asked for, by option or by the suffix of the output file."""
    if args.format:
        return str(args.format)
    if args.output and args.output != "-":
        suffix = Path(args.output).suffix.lower()
        found = _SUFFIX.get(suffix)
        if found == "table" and "table" not in formats and "text" in formats:
            found = "text"
        if found in formats:
            return str(found)
        if suffix:
            raise fail(
                "format",
                f"expected one of the formats {', '.join(formats)}, found the suffix '{suffix}' of {args.output}",
                "name the format with --format",
            )
    return default


class Progress:
    """A bar on stderr for work of over a second, on a terminal only."""

    def __init__(self, total: int, args: argparse.Namespace, word: str = "reading") -> None:
        import time

        self.word = word
        self.total = total
        self.clock = time.monotonic
        self.begun = time.monotonic()
        self.wanted = sys.stderr.isatty() and not args.quiet and total > 1
        self.bar: Any = None

    def __enter__(self) -> Progress:
        return self

    def at(self, done: int) -> None:
        if not self.wanted:
            return
        if self.bar is None:
            if self.clock() - self.begun < 1:
                return
            from rich.console import Console
            from rich.progress import Progress as Bar

            self.bar = Bar(console=Console(stderr=True), transient=True)
            self.bar.start()
            self.task = self.bar.add_task(self.word, total=self.total)
        self.bar.update(self.task, completed=done)

    def __exit__(self, *_: object) -> None:
        if self.bar is not None:
            self.bar.stop()


def _itself(flow: Flow) -> Flow:
    return flow


def limits_of(args: argparse.Namespace) -> Limits:
    """The limits on inputs, raised as the options say."""
    from zeitbuch.readers.input.limits import Limits, raised

    limits = Limits()
    for item in args.limit:
        name, _, value = item.partition("=")
        if not value.isdecimal():
            raise fail("limit-unknown", f"expected --limit NAME=NUMBER, found '{item}'")
        limits = raised(limits, name, int(value))
    return limits


class Session:
    """Sources, workspace and reader of one command."""

    def __init__(self, args: argparse.Namespace) -> None:
        from zeitbuch.readers.config import workspace
        from zeitbuch.readers.reading.tally import Tally

        self.args = args
        self.workspace = workspace.load(workspace.find())
        self.limits = limits_of(args)
        self.dialects = workspace.dialects(self.workspace, args.dialect)
        self.reader = Tally()

    def sources(self, given: Sequence[str]) -> list[str]:
        """The sources given, or the workspace's."""
        if given:
            return list(given)
        if not self.workspace.sources:
            raise fail(
                "source-none",
                "expected a SOURCE or a workspace file zeitbuch.toml that names one, found neither",
                "name a file or folder, or run `zeitbuch init`",
            )
        return [self.workspace.path(s) for s in self.workspace.sources]

    def flows(self, given: Sequence[str]) -> Iterator[Flow]:
        """The flows of the sources, with a progress bar when it takes long."""
        from zeitbuch.core.model.records import Flow
        from zeitbuch.readers.reading.parallel import Setting

        setting = Setting(self.dialects, self.limits, models=self.workspace.model)
        yield from self._run(setting, given, _itself, Flow)

    def rows(self, given: Sequence[str]) -> list[Row]:
        """The inventory rows of all flows of the sources."""
        from zeitbuch.core.report.inventory import Row, row
        from zeitbuch.readers.reading.parallel import Setting

        models = self.workspace.model
        # Prompts of a model map stand among the inputs, which an outline leaves out.
        setting = Setting(self.dialects, self.limits, not models, models, texts=bool(models))
        return list(self._run(setting, given, row, Row))

    def _run(
        self, setting: Setting, given: Sequence[str], make: Callable[[Flow], T | None], kind: type[T]
    ) -> Iterator[T]:
        yield from self._run_over(setting, self.inputs(self.sources(given)), make, kind)

    def _run_over(
        self, setting: Setting, inputs: list[Input], make: Callable[[Flow], T | None], kind: type[T]
    ) -> Iterator[T]:
        from zeitbuch.readers.reading.parallel import Run

        run = Run(setting, inputs, make, kind, cache=not self.args.no_cache)
        self.reader = run.reader
        with Progress(len(inputs), self.args) as progress:
            for done, found in run:
                yield from found
                progress.at(done)

    def inputs(self, sources: Sequence[str]) -> list[Input]:
        """What the sources name: files, folders and packages as they are, revisions and recorded states as bytes."""
        from zeitbuch.app.sources import inputs_of

        from .book import place_of

        place = place_of(self)
        return [one for source in sources for one in inputs_of(source, self.limits, place)]

    def versions(self, old: str, new: str | None) -> tuple[Estate, Estate]:
        """Two versions, each whole. Files with the same bytes on both sides are read once."""
        from zeitbuch.core.model.records import Flow
        from zeitbuch.readers.input.sources import digests
        from zeitbuch.readers.reading.parallel import Run, Setting

        sides = [self.inputs([old]), self.inputs(self.sources([new] if new else []))]
        marks = [digests(side, self.limits) for side in sides]
        setting = Setting(self.dialects, self.limits, models=self.workspace.model)
        cache = not self.args.no_cache
        problems: list[Problem] = []
        estates: list[Estate] = []
        with Progress(len(sides[0]) + len(sides[1]), self.args) as progress:
            ready: dict[int, Any] = {}
            before = 0
            for at, side in enumerate(sides):
                run = Run(setting, side, _itself, Flow, cache=cache, ready=ready)
                flows: list[Flow] = []
                for done, found in run:
                    flows += found
                    progress.at(before + done)
                before = len(side)
                estates.append(Estate(tuple(flows)))
                problems += [p for p in run.reader.problems if p not in problems]
                run.reader.packages = [*(self.reader.packages if at else []), *run.reader.packages]
                run.reader.kept |= self.reader.kept if at else {}
                self.reader = run.reader
                if at == 0:
                    spots = {mark: i for i, mark in enumerate(marks[0]) if mark is not None and i in run.reads}
                    ready = {j: run.reads[spots[m]] for j, m in enumerate(marks[1]) if m is not None and m in spots}
        self.reader.problems = problems
        return estates[0], estates[1]

    def by_file(self, given: Sequence[str]) -> list[tuple[str, list[Flow]]]:
        """The flows of every input by itself."""
        from zeitbuch.readers.reading.reader import Reader

        inputs = self.inputs(self.sources(given))
        found: list[tuple[str, list[Flow]]] = []
        reader = self.reader = Reader(self.dialects, self.limits, models=self.workspace.model)
        with Progress(len(inputs), self.args) as progress:
            for at, name in enumerate(inputs):
                flows = list(reader.flows_of([name]))
                if not isinstance(name, Problem):
                    found.append((name if isinstance(name, str) else name.name, flows))
                progress.at(at)
        self.reader.finish()
        return found

    def progress(self, total: int, word: str) -> Progress:
        """A bar for work after the reading."""
        return Progress(total, self.args, word)

    def estate(self, given: Sequence[str]) -> Estate:
        """All flows of the sources at once."""
        return Estate(flows=tuple(self.flows(given)))

    def estate_of(self, inputs: list[Input]) -> Estate:
        """All flows of inputs already listed; problems so far are kept."""
        from zeitbuch.core.model.records import Flow
        from zeitbuch.readers.reading.parallel import Setting

        before = self.reader.problems
        setting = Setting(self.dialects, self.limits, models=self.workspace.model)
        flows = tuple(self._run_over(setting, inputs, _itself, Flow))
        self.reader.problems = [*before, *self.reader.problems]
        return Estate(flows=flows)

    def finish(self, status: int = OK) -> int:
        """Tell the problems; the exit status is 2 when there was an error, else ``status``."""
        if not self.args.quiet:
            from zeitbuch.writers.escape.text import inert

            for p in self.reader.packages:
                unread = f", {p.unreadable} could not be read" if p.unreadable else ""
                text = f"{p.name}: {p.flows} flows in {p.members} members, {p.others} other objects{unread}"
                print(inert(text, keep_lines=False), file=sys.stderr)
        problems = shown(self.reader.problems, self.args)
        if not problems:
            return status
        from zeitbuch.readers.input.positions import placed

        return report(placed(problems, self.limits, self.reader.kept), self.args, status)


def shown(problems: Sequence[Problem], args: argparse.Namespace) -> list[Problem]:
    """The problems that are told: errors always, warnings unless quiet, notices when verbose."""
    return [
        p for p in problems if p.severity == "error" or (p.severity == "warning" and not args.quiet) or args.verbose
    ]


def report(problems: Sequence[Problem], args: argparse.Namespace, status: int = OK) -> int:
    """Problems to stderr: errors always, warnings unless quiet, notices when verbose."""
    errors = 0
    for p in shown(problems, args):
        from zeitbuch.readers.input.secrets import masked_text
        from zeitbuch.writers.escape.text import inert

        errors += p.severity == "error"
        print(inert(masked_text(str(p))), file=sys.stderr)
    if errors:
        noun = "error" if errors == 1 else "errors"
        print(f"{errors} {noun}; the rest was processed", file=sys.stderr)
    return WRONG if errors else status


def pick(estate: Estate, key: str) -> Flow:
    """The flow with this id or name. Raises ZeitbuchError with near names when there is none."""
    flow = estate.flow(key)
    if flow is not None:
        return flow
    import difflib

    names = [f.title for f in estate.flows] + [f.id for f in estate.flows]
    inside = [f.title for f in estate.flows if key.casefold() in f.title.casefold()]
    if len(inside) == 1:
        found = estate.flow(inside[0])
        if found is not None:
            return found
    near = inside or difflib.get_close_matches(key, names, 3, 0.4)
    hint = (
        "did you mean " + " or ".join(f"'{n}'" for n in near[:5]) + "?"
        if near
        else "`zeitbuch inventory` lists the flows"
    )
    raise fail("flow-unknown", f"expected the id or name of a flow, found '{key}'", hint)
