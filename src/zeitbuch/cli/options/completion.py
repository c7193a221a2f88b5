"""Print what makes a shell complete commands, options, and the names of flows and steps."""

from __future__ import annotations

import argparse

SHELLS = ("bash", "zsh", "fish")
EXAMPLE = """\
examples, each for the shell that is open and for those to come:
  eval "$(zeitbuch completion bash)"                           also as a line of ~/.bashrc
  eval "$(zeitbuch completion zsh)"                            also as a line of ~/.zshrc, behind compinit
  zeitbuch completion fish | source                            also as a line of ~/.config/fish/config.fish"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", metavar="SHELL", choices=SHELLS, help="one of: " + ", ".join(SHELLS))
