"""Sign descriptions of flows, and say whether signatures still hold: a moved box keeps one, a changed prompt does not, a state that comes back
has its signature again."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_source_option

EXAMPLE = """\
examples:
  zeitbuch review sign "Customer letters" --role owner --by "Sanna Brekke"
  zeitbuch review sign letters --role auditor --by "Ola Tveit" --verdict with-changes --note "limit to 100" --until 2027-06-30
  zeitbuch review sign letters --role owner --by "Sanna Brekke" --key ~/.ssh/id_ed25519
  zeitbuch review status
  zeitbuch review verify                                   a gate: exit status 1 for what is open, stale, expired or refused
  zeitbuch review request letters --role auditor --by "Sanna Brekke"
  zeitbuch review packet -o packet.zip                     for an auditor: pages, flows, findings, signatures, chain, hashes
  zeitbuch review withdraw letters --role owner --by "Sanna Brekke"

The roles stand in zeitbuch.toml ([review] roles; [[review.rule]] role, flow, folder, owner, effect; [review.sentences] what a role signs;
[review.keys] the public keys of people: who has one there signs with it); default: owner and auditor, two persons.
A name alone proves nobody: who may write to the book may sign with any. What the chain shows is that nothing was altered later; `verify` also
holds signatures with keys against their keys."""

ACTS = ("sign", "status", "verify", "request", "withdraw", "packet")
VERDICTS = ("approved", "with-changes", "refused")


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("act", metavar="ACT", choices=ACTS, help=", ".join(ACTS))
    parser.add_argument("flow", metavar="FLOW", nargs="?", default="", help="a recorded flow (id or name), or FLOW@N")
    group = parser.add_argument_group("a signature")
    group.add_argument("--by", metavar="NAME", default="", help="who signs; default: the name of the account")
    group.add_argument("--role", metavar="ROLE", default="", help="in which role")
    group.add_argument("--verdict", choices=VERDICTS, default="approved", help="default: approved")
    group.add_argument("--note", metavar="TEXT", default="", help="what is said to it")
    group.add_argument(
        "--key",
        metavar="FILE",
        default="",
        help="sign with this key too, through ssh-keygen or openssl: a private key, or a public one whose private one an agent holds",
    )
    group.add_argument(
        "--until", metavar="DAY", default="", help="the first day on which it holds no more (YYYY-MM-DD)"
    )
    group = parser.add_argument_group("what is looked at")
    add_source_option(group, "the exports as they are now; default: those of the workspace")
    group.add_argument(
        "--originals",
        action="store_true",
        help="with packet: the exports themselves too, with all secrets that they hold; without it, their hashes",
    )
    group.add_argument(
        "--placeholders",
        metavar="FILE",
        default="",
        help="with packet: write what its placeholders stand for to this file, which stays in the house",
    )
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)
