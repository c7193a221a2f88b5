# The shell asks for completions with an environment variable of its own; only then is the whole parser made, and the estate read for the names of
# flows and steps.
"""Completion in shells."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Iterable, Sequence
from importlib import import_module
from typing import Any

from .command_table import COMMANDS

# Destinations of options and arguments -> which names they take. Steps are those of the flow that was named before.
_FLOWS = frozenset({"flow"})
_STEPS = frozenset({"step", "around", "fails", "empty"})


def complete() -> None:
    """Answers the shell, and ends the process."""
    import argcomplete

    words = os.environ.get("COMP_LINE", "").split()
    parser = whole_parser(next((word for word in words[1:] if word in COMMANDS), ""))
    argcomplete.autocomplete(parser, always_complete_options=False)


def whole_parser(command: str) -> argparse.ArgumentParser:
    """A parser of all commands, with the options of one of them."""
    parser = argparse.ArgumentParser(prog="zeitbuch")
    parts = parser.add_subparsers()
    for name, words in COMMANDS.items():
        part = parts.add_parser(name, help=words)
        if name == command:
            import_module(f"zeitbuch.cli.options.{name}").add(part)
            for action in _actions_of(part):
                _add_names(action)
    parts.add_parser("help", help="the options of a command").add_argument("name", choices=list(COMMANDS))
    return parser


def _actions_of(parser: argparse.ArgumentParser) -> Iterable[argparse.Action]:
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for part in action.choices.values():
                yield from _actions_of(part)


def _add_names(action: argparse.Action) -> None:
    names: Callable[..., list[str]] | None = (
        flow_names if action.dest in _FLOWS else step_names if action.dest in _STEPS else None
    )
    if names is not None:
        action.completer = names  # type: ignore[attr-defined]  # as argcomplete wants it


def flow_names(prefix: str = "", parsed_args: argparse.Namespace | None = None, **_: Any) -> list[str]:
    """The names of the flows of the sources that are named, else of the workspace."""
    return sorted({flow.title for flow in _flows_of(parsed_args)})


def step_names(prefix: str = "", parsed_args: argparse.Namespace | None = None, **_: Any) -> list[str]:
    """The names of the steps of the flow that was named before."""
    named = getattr(parsed_args, "flow", None)
    wanted = [named] if isinstance(named, str) else named or []
    flows = [flow for flow in _flows_of(parsed_args) if flow.id in wanted or flow.title in wanted] if wanted else []
    return sorted({step.title for flow in flows for step in flow.steps})


def _flows_of(parsed_args: argparse.Namespace | None) -> Sequence[Any]:
    from zeitbuch.app.session import Session
    from zeitbuch.readers.config import workspace

    from .shared.environment import workspace_file

    found = workspace.load_workspace(workspace_file())
    named = getattr(parsed_args, "source", None) or []
    session = Session(found, workspace.active_dialects(found, list(getattr(parsed_args, "dialect", None) or [])))
    return session.estate([named] if isinstance(named, str) else list(named)).flows
