"""Usage logs say what really happened. A mapping (TOML) says which of their columns is what; try it here before figures are held against it."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.help_text import ParagraphHelp
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_source_option

EXAMPLE = """\
examples:
  zeitbuch usage suggest log.csv -o usage.toml          propose a mapping for a log never seen
  zeitbuch usage test log.csv --mapping usage.toml      what becomes of its lines, and which of its names are known
  zeitbuch usage test                                   the logs of the workspace"""


def add(parser: argparse.ArgumentParser) -> None:
    parts = parser.add_subparsers(dest="part", metavar="suggest|test", required=True)
    _add_suggest(parts)
    test = parts.add_parser(
        "test",
        formatter_class=ParagraphHelp,
        help="show what a mapping makes of a log",
        description="Show what a mapping makes of the lines of a log: each column with its sum and the values that could not\n"
        "be used, lines passed over, and the flows, steps and models of the log with what they are in the estate: the\n"
        "same, by the mapping, near, or not known. Exit status 2 when lines or values could not be used.",
        epilog="examples:\n  zeitbuch usage test log.csv --mapping usage.toml\n"
        "  zeitbuch usage test gateway/*.csv --mapping gateway.toml --names",
    )
    add_usage(test)
    test.add_argument("--names", action="store_true", help="show the names of the log instead of its columns")
    add_source_option(test)
    add_figures(test)
    add_output(test, "table")
    add_reading(test)


def _add_suggest(parts: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    suggest = parts.add_parser(
        "suggest",
        formatter_class=ParagraphHelp,
        help="propose a mapping for a log that nobody has described",
        description="Propose a mapping from the beginning of a log: how it is written, and which of its columns is what, by values,\n"
        "by the names of the estate that stand in it, and by its heads. What the log does not settle (time zone, currency,\n"
        "day or month first, decimal sign, a column that may be something else) is asked: --ask on the terminal,\n"
        "--answers from a file. Unanswered it is left out of the mapping, so that nothing is read wrongly in silence.",
        epilog="examples:\n  zeitbuch usage suggest log.csv -o usage.toml\n"
        "  zeitbuch usage suggest log.csv -o usage.toml --ask\n"
        "  zeitbuch usage suggest log.csv -o usage.toml --answers answers.toml",
    )
    suggest.add_argument(
        "log",
        metavar="FILE",
        help="a usage log (CSV, XLSX, JSON Lines, Parquet, OTLP JSON, XES, FOCUS), or - for standard input",
    )
    suggest.add_argument("-o", "--output", metavar="FILE", help="write the mapping to FILE instead of standard output")
    asked = suggest.add_mutually_exclusive_group()
    asked.add_argument("--ask", action="store_true", help="ask what is not sure, on the terminal")
    asked.add_argument("--answers", metavar="FILE", help="take the answers from FILE (TOML)")
    add_source_option(suggest)
    add_figures(suggest)
    add_reading(suggest)


def add_usage(parser: argparse.ArgumentParser) -> None:
    """Arguments for usage logs and their mappings."""
    parser.add_argument(
        "usage",
        metavar="USAGE",
        nargs="*",
        help="usage logs (CSV, XLSX, JSON Lines, Parquet, OTLP JSON, XES, FOCUS), or - for standard input; without them those of the mapping",
    )
    parser.add_argument(
        "--mapping",
        metavar="FILE",
        action="append",
        default=[],
        help="what the columns of the logs are (TOML); may be repeated; default: the workspace's",
    )
