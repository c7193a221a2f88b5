"""Say what changed in meaning between two versions of exports; layout, time stamps, ids given anew and file order do not
count. A version is a file, folder, package, git:REV[:PATH], or @N, @latest, @DATE of the book."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading

EXAMPLE = """\
examples:
  zeitbuch diff october/ november/
  zeitbuch diff october/ november/ -o changes.html        both maps, every word
  zeitbuch diff @latest                                   the book against the workspace's sources
  zeitbuch diff git:HEAD~1:exports exports/ --summary     one line a flow
  zeitbuch diff @3 @latest --only trigger,prompt,model
  zeitbuch diff october/ november/ --fail-on risk --max-increase 10%
  zeitbuch diff @dev:latest @prod:latest --mapping dev-prod.toml         two lines of the book
  zeitbuch diff "Customer letters@1" "Customer letters@3"                two versions of one flow
  zeitbuch diff october/ november/ --format brief                        ten lines for a chat
  zeitbuch diff october/ november/ --undo "Customer letters/1" -o letters.yaml   the flow without that change
  zeitbuch diff --staged --fail-on risk                                  in a hook: what the next commit does
  zeitbuch diff --base @3 ours/ theirs/                                  three ways: only ours, only theirs, conflicts
  zeitbuch diff approved.cdx.json november/                              a bill of materials against the flows, or two bills
  zeitbuch diff november/ --clones                         copies, and where they differ

topics of --only: flow, trigger, step, link, prompt, model, input, connection, failure, rights, unread, note
exit status: 0 no change of meaning (or none that --fail-on asks for); 1 there is; 2 wrong use or unreadable input"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "old",
        metavar="OLD",
        nargs="?",
        help="the older version: file, folder, package, git:REV[:PATH], @N, @DATE, or a bill of materials",
    )
    parser.add_argument(
        "new", metavar="NEW", nargs="?", help="the newer version; without it, the workspace's sources as they are"
    )
    parser.add_argument("more", nargs="*", help=argparse.SUPPRESS)  # git's words
    _add_ways(parser)
    group = parser.add_argument_group("what to show")
    group.add_argument(
        "--only", metavar="TOPIC,...", action="append", default=[], help="only changes of these topics; see below"
    )
    group.add_argument("--flow", metavar="NAME", help="only this flow (id or name)")
    group.add_argument("--summary", action="store_true", help="one line a flow")
    group.add_argument("--evidence", action="store_true", help="say where each change stands in the exports (text)")
    group.add_argument("--no-checks", action="store_true", help="do not say which findings of `check` came and went")
    group.add_argument(
        "--no-shares", action="store_true", help="do not count what each change adds by itself, only the flow"
    )
    group.add_argument(
        "--clones", action="store_true", help="instead of versions: near-identical flows, steps, prompts of OLD"
    )
    group = parser.add_argument_group("when the answer is no")
    group.add_argument(
        "--fail-on",
        choices=("any", "risk", "cost"),
        help="exit status 1 on any change (default), on changes that need review, or when a flow costs more",
    )
    group.add_argument(
        "--max-increase",
        metavar="N%|N",
        help="exit status 1 when a changed flow costs over N %% more, or all together over N more per month",
    )
    parser.add_argument(
        "--month", metavar="YYYY-MM", default="", help="month of the cost figures; default as in `estimate`"
    )
    add_figures(parser)
    add_output(parser, "changes", "table")
    add_reading(parser)


def _add_ways(parser: argparse.ArgumentParser) -> None:
    """Options that say what is compared with what."""
    group = parser.add_argument_group("other ways to compare")
    group.add_argument(
        "--staged", action="store_true",
        help="the workspace's sources in the last commit of git against what is staged for the next; nothing is read when it touches none",
    )  # fmt: skip
    group.add_argument(
        "--driver",
        action="store_true",
        help="started by git for a file: a file that holds no flow is shown by its lines",
    )
    group.add_argument(
        "--merge-driver",
        action="store_true",
        help="started by git to merge a native file: only where nothing contradicts and nothing is lost, else as git merges text",
    )
    group.add_argument(
        "--mapping", metavar="FILE", default="",
        help="what is called otherwise on purpose (connections, hosts, ids ...), and differences that are allowed",
    )  # fmt: skip
    group.add_argument(
        "--base", metavar="BASE", default="",
        help="three ways: what OLD and NEW each changed since this version, and where they contradict each other",
    )  # fmt: skip
    group.add_argument(
        "--undo", metavar="FLOW/N", default="",
        help="write the newer version of a flow without its Nth change, in the native form (or another by -f)",
    )  # fmt: skip
