# The entrance. Start-up is light: the parser of one command and its module are made only when it is named; no
# library is imported for `--help`.
"""The `zeitbuch` program."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from zeitbuch.version import __version__

from .commands import COMMANDS

OK, NO, WRONG = 0, 1, 2

DESCRIPTION = (
    "Reads exported AI workflow definitions and says what they do, what they call, what they cost and what changed."
)
EPILOG = """\
examples:
  zeitbuch demo out                      try everything on a made-up estate
  zeitbuch inventory exports/            which flows exist
  zeitbuch estimate exports/ --steps     what a run costs, step by step
  zeitbuch diff october/ november/       what changed since last month

`zeitbuch COMMAND -h` shows the options of a command with an example.
exit status: 0 fine; 1 the answer is no (differences found); 2 wrong use or unreadable input"""


def _top_parser() -> argparse.ArgumentParser:
    listing = "\n".join(f"  {name:<10} {line}" for name, line in COMMANDS.items())
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


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    words = list(sys.argv[1:] if argv is None else argv)
    if not words or words[0].startswith("-") or words[0] not in COMMANDS:
        parser = _top_parser()
        if not words:
            parser.print_help()
            return WRONG
        parser.parse_args(words[:1])
        import difflib

        near = difflib.get_close_matches(words[0], COMMANDS, 1)
        hint = f"did you mean '{near[0]}'?" if near else "`zeitbuch --help` lists them"
        print(f"zeitbuch: error: expected a command, found '{words[0]}'; {hint}", file=sys.stderr)
        return WRONG
    return _run(words[0], words[1:])


def _run(name: str, rest: list[str]) -> int:
    import gc
    import importlib

    # Exports become many small lasting objects: collecting them again and again would cost more than it frees.
    gc.set_threshold(200_000, 20, 100)
    module = importlib.import_module(f"zeitbuch.cli.{name}_command")
    parser = argparse.ArgumentParser(
        prog=f"zeitbuch {name}",
        description=module.__doc__,
        epilog=module.EXAMPLE,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    module.add(parser)
    args = parser.parse_args(rest)
    from zeitbuch.core.model.problems import ZeitbuchError

    try:
        status: int = module.run(args)
        sys.stdout.flush()
        return status
    except ZeitbuchError as error:
        from zeitbuch.writers.escape.text import inert

        print(f"zeitbuch {name}: {inert(str(error.problem))}", file=sys.stderr)
        return WRONG
    except BrokenPipeError:
        # The reader of our output has gone (`| head`); nothing more to say.
        sys.stderr.close()
        return OK
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        return 130


def run() -> None:
    """The console script."""
    sys.exit(main())
