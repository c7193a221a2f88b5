"""Write any readable source in the native form (YAML, JSON) or as BPMN 2.0: reading it back gives the same model. Serverless
Workflow, Arazzo and Agent Spec have fewer words: what they leave out is told."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch convert exports/ -o estate.yaml
  zeitbuch convert letters.json --format json
  zeitbuch convert exports/ --flow "Crew swap approvals" -o crew-swap.bpmn
  zeitbuch convert exports/ --flow "Customer letters" -o letters.yaml
  zeitbuch convert exports/ --flow "Customer letters" --format serverless -o letters.yaml"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    parser.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    parser.add_argument(
        "--driver", action="store_true", help="started by git for a file: one that holds no flow is written as it is"
    )
    add_output(parser, "flows")
    add_reading(parser)
