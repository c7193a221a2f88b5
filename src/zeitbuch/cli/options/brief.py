"""Write what a writing assistant may see of a flow: its structure, with placeholders for people, addresses, accounts, numbers and fixed values; and take
the text that it sends back as a draft, shown as such until somebody signs."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_output, add_reading, add_source_option

EXAMPLE = """\
examples:
  zeitbuch brief "Customer letters" -o brief.md                 the key to its placeholders is kept in briefs/
  zeitbuch brief "Customer letters" --prompts -o brief.md       with prompts and the notes of its builders
  zeitbuch brief --back answer.md --by "Sanna Brekke"           the text that came back, as a draft
  zeitbuch brief "Customer letters" --drop --by "Sanna Brekke"

Nothing is sent anywhere. Names in running text are found by lists of names and by their look: read a brief before it leaves the house. The key stays."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("flow", metavar="FLOW", nargs="?", default="", help="id or name of the flow")
    parser.add_argument(
        "--prompts", action="store_true", help="with prompts and the notes of its builders, looked through for names"
    )
    add_source_option(parser)
    group = parser.add_argument_group("what comes back")
    group.add_argument(
        "--back", metavar="FILE", default="", help="take this text (Markdown, or - for standard input) as a draft"
    )
    group.add_argument(
        "--key",
        metavar="FILE",
        default="",
        help="the key of the brief; default: briefs/NUMBER.key.json of the workspace",
    )
    group.add_argument(
        "--drop",
        action="store_true",
        help="take the draft of FLOW away from its pages; the book keeps that it was there",
    )
    group.add_argument(
        "--by", metavar="NAME", default="", help="who brings it in or drops it; default: the name of the account"
    )
    add_output(parser, "page", default="markdown")
    add_reading(parser)
