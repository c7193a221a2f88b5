# The entrance. Start-up is light: the parser of one command and its module are made only when it is named; no
# library is imported for `--help`.
"""The `zeitbuch` program."""

from __future__ import annotations

import signal
import sys

if sys.argv[0].rpartition("/")[2] in ("zeitbuch", "__main__.py"):
    # Until the guard stands, an interrupt ends the program at once and says nothing.
    signal.signal(signal.SIGINT, signal.SIG_DFL)

import argparse
import gc
import os
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from importlib import import_module

from zeitbuch.version import __version__

from .command_table import COMMANDS
from .shared.exit_codes import WRONG
from .shared.help_text import ParagraphHelp

_SHELL_ASKS = "_ARGCOMPLETE"  # set by a shell that wants completions
TYPE_CHECKING = False
if TYPE_CHECKING:  # importing it would take a tenth of the start
    from typing import Any, NoReturn

    from zeitbuch.core.model.problems import ZeitbuchError

DESCRIPTION = (
    "Reads exported AI workflow definitions and says what they do, what they call, what they cost and what changed."
)
EPILOG = """\
examples:
  zeitbuch demo out                      try everything on a made-up estate
  zeitbuch inventory exports/            which flows exist
  zeitbuch estimate exports/ --steps     what a run costs, step by step
  zeitbuch diff october/ november/       what changed since last month

`zeitbuch help COMMAND` shows the options of a command with an example.
exit status: 0 fine; 1 the answer is no (differences found); 2 wrong use or unreadable input"""


def _near_words(word: str, known: Sequence[str]) -> list[str]:
    """The nearest of the known words, if one is near."""
    import difflib  # a slip of the fingers is rare, and start-up is to be light

    return difflib.get_close_matches(word, known, 1)


RENAMED_OPTIONS = {"--twins": "--clones"}


class CommandParser(argparse.ArgumentParser):
    """A parser that takes options by their whole names only and suggests near ones."""

    def __init__(self, **settings: Any) -> None:
        settings.setdefault("formatter_class", ParagraphHelp)
        super().__init__(allow_abbrev=False, **settings)

    def error(self, message: str) -> NoReturn:
        """Ends with the usage and a message; one that an argument is missing says what is expected there."""
        start = "the following arguments are required: "
        if message.startswith(start):
            message = f"expected {self._words_on_missing(message.removeprefix(start).split(', '))}"
        super().error(message)

    def _words_on_missing(self, names: Sequence[str]) -> str:
        """What is expected in the place of the arguments that are missing; such as may be left out are not."""
        said = []
        for action in self._actions:
            name = "/".join(action.option_strings) or str(action.metavar or action.dest)
            if action.nargs not in ("*", "?") and name in names:
                words = f"one of: {', '.join(map(str, action.choices))}" if action.choices else action.help
                said.append(name if "|" in name else f"{name} ({words})")
        return f"{' and '.join(said) or ', '.join(names)}, found nothing; `{self.prog} -h` shows an example"

    def parse_args(self, args: Sequence[str] | None = None, namespace: object = None) -> argparse.Namespace:  # type: ignore[override]
        """The options; one that is not known gets a suggestion."""
        found, unknown = self.parse_known_args(args)
        if unknown:
            known = [option for action in self._actions for option in action.option_strings if option.startswith("--")]
            word = unknown[0].partition("=")[0]
            near = [RENAMED_OPTIONS[word]] if word in RENAMED_OPTIONS else _near_words(word, known)
            hint = f"; did you mean {near[0]}?" if near else f"; `{self.prog} -h` lists the options"
            if word in RENAMED_OPTIONS:
                hint = f"; it is called {near[0]} now"
            self.error(f"expected only known options and arguments, found: {' '.join(unknown)}{hint}")
        found.given = tuple(
            action.option_strings[-1]
            for action in self._actions
            if action.option_strings and getattr(found, action.dest, action.default) != action.default
        )
        return found


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    if _SHELL_ASKS in os.environ:
        from .completion import complete

        complete()
    words = list(sys.argv[1:] if argv is None else argv)
    if words and words[0] in COMMANDS:
        return _run_command(words[0], words[1:])
    if words and words[0] == "help":
        return main([*words[1:2], "--help"])
    parser = _top_parser()
    if not words:
        parser.print_help()
        return WRONG
    if words[0].startswith("-"):
        parser.parse_args(words[:1])
    near = _near_words(words[0], list(COMMANDS))
    hint = f"did you mean '{near[0]}'?" if near else "`zeitbuch --help` lists them"
    print(f"zeitbuch: error: expected a command, found '{words[0]}'; {hint}", file=sys.stderr)
    return WRONG


def _top_parser() -> argparse.ArgumentParser:
    listing = "\n".join(f"  {name:<10} {words}" for name, words in COMMANDS.items())
    parser = argparse.ArgumentParser(
        prog="zeitbuch",
        usage="zeitbuch COMMAND [SOURCE ...] [options]",
        description=f"{DESCRIPTION}\n\ncommands:\n{listing}",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"zeitbuch {__version__}")
    parser.add_argument("command", metavar="COMMAND", nargs="?", help=argparse.SUPPRESS)
    return parser


def _run_command(name: str, rest: list[str]) -> int:
    args = parse_options(name, rest)
    from zeitbuch.core.model.problems import ZeitbuchError  # not for `--help`

    try:
        return perform(name, args)
    except ZeitbuchError as error:
        return tell_error(name, args, error)


def tell_error(name: str, args: argparse.Namespace, error: ZeitbuchError) -> int:
    """What kept a command from its work, on stderr; the exit status."""
    from zeitbuch.core.model.problems import InputFaults

    from .shared.session import report_problems, tell_unread

    if isinstance(error, InputFaults):
        return report_problems(error.problems, args, went_on=False)
    tell_unread(args)
    from zeitbuch.writers.escape.text import make_inert

    print(f"zeitbuch {name}: {make_inert(str(error.problem))}", file=sys.stderr)
    return WRONG


def parse_options(name: str, rest: list[str]) -> argparse.Namespace:
    """The options of a command, from words as typed."""
    options = import_module(f"zeitbuch.cli.options.{name}")
    parser = CommandParser(prog=f"zeitbuch {name}", description=options.__doc__, epilog=options.EXAMPLE)
    options.add(parser)
    return parser.parse_args(rest)


def perform(name: str, args: argparse.Namespace) -> int:
    """Does what a command with these options is for; the exit status. Raises ZeitbuchError for what cannot be done."""
    from zeitbuch.core.model.extras import telling_missing

    # Exports become many small lasting objects: collecting them again and again would cost more than it frees.
    gc.set_threshold(200_000, 20, 100)
    with telling_missing(), _workers_of(args):
        status: int = import_module(f"zeitbuch.cli.commands.{name}").run(args)
    if sys.stdout is not None:
        sys.stdout.flush()
    return status


def _workers_of(args: argparse.Namespace) -> AbstractContextManager[None]:
    if not getattr(args, "workers", None):
        return nullcontext()
    from .shared.workers import named_workers  # most runs take what is there

    return named_workers(args.workers)


def run() -> None:
    """The console script: whatever happens, one line and a status."""
    from .shared.last_guard import end_process, guarded

    end_process(guarded(main, "--verbose" in sys.argv or "-v" in sys.argv))
