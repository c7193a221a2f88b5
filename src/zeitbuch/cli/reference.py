# What is said of commands outside of the program is made from the same parsers that read them.
"""The manual page (man(7)) and the reference of commands in Markdown."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from importlib import import_module
from typing import NamedTuple

from .command_table import COMMANDS
from .main import DESCRIPTION, CommandParser
from .shared.environment import VARIABLES

_TITLES = {"positional arguments": "arguments"}
STATUSES = (
    ("0", "fine"),
    ("1", "the answer is no: differences, findings or a budget that is passed, where the command is asked to hold them against a limit"),
    ("2", "wrong use, or something that could not be read; with many inputs the rest is processed all the same"),
)  # fmt: skip


class Option(NamedTuple):
    """An option or argument as it is typed, and its help."""

    typed: str
    about: str


class Entry(NamedTuple):
    """A command or one of its parts: how it is typed, what it does, its options by group, and an example."""

    name: str
    about: str
    groups: tuple[tuple[str, tuple[Option, ...]], ...]
    example: str


def command_entries() -> Iterator[Entry]:
    """All commands with their parts, in the order of ``zeitbuch --help``."""
    for name in COMMANDS:
        options = import_module(f"zeitbuch.cli.options.{name}")
        parser = CommandParser(prog=f"zeitbuch {name}", description=options.__doc__, epilog=options.EXAMPLE)
        options.add(parser)
        yield from _entries(parser)


def _entries(parser: argparse.ArgumentParser, about: str = "") -> Iterator[Entry]:
    shape = argparse.HelpFormatter(parser.prog, width=10_000)
    groups = []
    parts: list[tuple[argparse.ArgumentParser, str]] = []
    for group in parser._action_groups:
        listed = []
        for action in group._group_actions:
            if isinstance(action, argparse._SubParsersAction):
                told = {choice.dest: choice.help or "" for choice in action._choices_actions}
                parts += [(part, told.get(name, "")) for name, part in action.choices.items()]
            elif action.help != argparse.SUPPRESS and not isinstance(action, argparse._HelpAction):
                listed.append(Option(shape._format_action_invocation(action), shape._expand_help(action)))
        if listed:
            groups.append((_TITLES.get(group.title or "", group.title or ""), tuple(listed)))
    said = " ".join((parser.description or about).split())
    yield Entry(parser.prog, said[:1].upper() + said[1:], tuple(groups), (parser.epilog or "").strip("\n"))
    for part, words in parts:
        yield from _entries(part, words)


def manual_page(version: str) -> str:
    """The manual page of the program, section 1, in the macros of man(7)."""
    lines = [
        f'.TH ZEITBUCH 1 "" "zeitbuch {_roff(version)}" "User commands"',
        ".SH NAME", f"zeitbuch \\- {_roff(DESCRIPTION[0].lower() + DESCRIPTION[1:].rstrip('.'))}",
        ".SH SYNOPSIS", ".B zeitbuch", ".I COMMAND", "[\\fISOURCE\\fR ...] [\\fIoptions\\fR]",
        ".SH DESCRIPTION", _roff(DESCRIPTION),
        "Without SOURCE a command reads the sources of the workspace, the nearest zeitbuch.toml upwards. A flow is never run, and nothing is asked "
        "of a network that was not named.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for entry in command_entries():
        lines += [f".SS {_roff(entry.name)}", _roff(entry.about)]
        for title, options in entry.groups:
            lines += [".PP", f"{_roff(title)}:"]
            for option in options:
                lines += [".TP", f"\\fB{_roff(option.typed)}\\fR", _roff(option.about)]
        if entry.example:
            lines += [".PP", ".nf", *[_roff(line) for line in entry.example.splitlines()], ".fi"]
    lines.append(".SH ENVIRONMENT")
    for variable in VARIABLES:
        lines += [".TP", f"\\fB{variable.name}\\fR", _roff(variable.about)]
    lines.append(".SH EXIT STATUS")
    for status, words in STATUSES:
        lines += [".TP", status, _roff(words)]
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    """A text that the macros take as it is: backslashes and hyphens, and a first letter that would be a request."""
    plain = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def commands_page() -> str:
    """docs/commands.md: every command and option, variable and exit status."""
    lines = [
        "# Commands", "",
        "Every command with all of its options, as `zeitbuch help COMMAND` tells them; `man zeitbuch` has the same.", "",
        "| command | what for |", "| --- | --- |",
        *[f"| [`{name}`](#zeitbuch-{name}) | {_cell(words)} |" for name, words in COMMANDS.items()], "",
    ]  # fmt: skip
    for entry in command_entries():
        lines += [f"## {entry.name}", "", entry.about, ""]
        for title, options in entry.groups:
            lines += [f"| {_cell(title)} | |", "| --- | --- |"]
            lines += [f"| `{_cell(option.typed)}` | {_cell(option.about)} |" for option in options]
            lines.append("")
        if entry.example:
            lines += ["```text", *_without_margin(entry.example), "```", ""]
    lines += ["## Variables of the environment", "", "| variable | what it does |", "| --- | --- |"]
    lines += [f"| `{variable.name}` | {_cell(variable.about)} |" for variable in VARIABLES]
    lines += ["", "## Exit status", "", "| status | meaning |", "| --- | --- |"]
    return "\n".join([*lines, *[f"| {status} | {_cell(words)} |" for status, words in STATUSES]]) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


def _without_margin(text: str) -> Sequence[str]:
    lines = text.splitlines()
    margin = min((len(line) - len(line.lstrip()) for line in lines if line.strip()), default=0)
    return [line[margin:] if line[:margin].isspace() else line for line in lines]
