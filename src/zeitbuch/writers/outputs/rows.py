# The one table of outputs: a new format of a table, a map or a page is one row here and one module that writes it. Choices of
# `--format`, suffixes of `-o FILE`, help and tests derive from it; writers are imported when they are asked for.
"""Outputs: what can be written, in which formats, by which function."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from msgspec import Struct

from zeitbuch.writers.theme.terminal import TextLook

OutputSubject = Literal[
    "table", "page", "map", "document", "changes", "clones", "findings", "chart", "flows", "snapshot", "bill"
]
Content = str | bytes
Write = Callable[[Any, TextLook], Content]


class OutputRow(Struct, frozen=True):
    """One format of one subject. ``writer`` is 'module:function', called with the subject's value and a TextLook."""

    subject: OutputSubject
    name: str
    suffixes: tuple[str, ...]
    writer: str
    words: str


_TABLE = "zeitbuch.writers.table"
_MAP = "zeitbuch.writers.map"
_CHANGES = "zeitbuch.writers.changes"
_DOCUMENT = "zeitbuch.writers.document"
OUTPUTS: tuple[OutputRow, ...] = (
    OutputRow("table", "table", (".txt",), f"{_TABLE}.tables:write_table", "a table that fits the terminal"),
    OutputRow("table", "csv", (".csv",), f"{_TABLE}.tables:write_csv", "all columns, keys as header (RFC 4180)"),
    OutputRow("table", "json", (".json",), f"{_TABLE}.tables:write_json", "the result with all it holds; see `zeitbuch schema`"),
    OutputRow("table", "jsonl", (".jsonl", ".ndjson"), f"{_TABLE}.json_lines:write_json_lines", "all columns, one JSON object a row"),
    OutputRow("table", "markdown", (".md", ".markdown"), f"{_TABLE}.tables:write_markdown", "a Markdown table"),
    OutputRow("table", "xlsx", (".xlsx",), f"{_TABLE}.workbook:write_workbook", "all columns in a workbook"),
    OutputRow("page", "text", (".txt",), f"{_DOCUMENT}.text:write_text", "text that fits the terminal"),
    OutputRow("page", "markdown", (".md", ".markdown"), f"{_DOCUMENT}.markdown:write_markdown", "Markdown"),
    OutputRow("page", "json", (".json",), f"{_TABLE}.tables:write_json", "the result with all it holds"),
    OutputRow("map", "svg", (".svg",), f"{_MAP}.svg:write_svg", "a drawing"),
    OutputRow("map", "png", (".png",), f"{_MAP}.png:write_png", "a picture"),
    OutputRow("map", "html", (".html", ".htm"), f"{_MAP}.map_page:write_html", "a page to search, fold and click"),
    OutputRow("map", "text", (".txt",), f"{_MAP}.tree:write_text", "a tree in the terminal"),
    OutputRow("map", "json", (".json",), f"{_MAP}.json:write_json", "places of all cards and routes"),
    OutputRow("map", "dot", (".dot", ".gv"), f"{_MAP}.graph_text:write_dot", "for Graphviz"),
    OutputRow("map", "graphml", (".graphml",), f"{_MAP}.graphml:write_graphml", "for graph tools"),
    OutputRow("map", "mermaid", (".mmd", ".mermaid"), f"{_MAP}.graph_text:write_mermaid", "for pages that draw Mermaid"),
    OutputRow("map", "bpmn", (".bpmn",), f"{_MAP}.bpmn:write_bpmn", "BPMN 2.0 with a diagram"),
    OutputRow("document", "html", (".html", ".htm"), f"{_DOCUMENT}.html:write_document_html", "pages without scripts, maps to click beside"),
    OutputRow("document", "markdown", (".md", ".markdown"), f"{_DOCUMENT}.markdown:write_document_markdown", "Markdown, maps beside"),
    OutputRow("document", "word", (".docx",), f"{_DOCUMENT}.word:write_document_word", "Word files, with the map as a picture"),
    OutputRow("changes", "text", (".txt",), f"{_CHANGES}.text:write_text", "text that fits the terminal"),
    OutputRow("changes", "markdown", (".md", ".markdown"), f"{_CHANGES}.text:write_markdown", "Markdown"),
    OutputRow("changes", "json", (".json",), f"{_CHANGES}.json:write_json", "the result with all it holds"),
    OutputRow("changes", "jsonl", (".jsonl", ".ndjson"), f"{_CHANGES}.feed:write_jsonl", "one change a line, for other programs"),
    OutputRow("changes", "brief", (), f"{_CHANGES}.feed:write_brief", "at most ten lines, for a chat"),
    OutputRow("changes", "html", (".html", ".htm"), f"{_CHANGES}.page:write_page", "a page with both maps and every word"),
    OutputRow("findings", "sarif", (".sarif",), "zeitbuch.writers.checks.sarif:write_sarif", "SARIF 2.1.0, for reviewers of code"),
    OutputRow("findings", "junit", (), "zeitbuch.writers.checks.junit:write_junit", "JUnit XML, for pipelines"),
    OutputRow("bill", "cyclonedx", (), "zeitbuch.writers.exchange.cyclonedx:write_cyclonedx", "a bill of materials, CycloneDX 1.6"),
    OutputRow("clones", "text", (".txt",), f"{_CHANGES}.clones:write_text", "text that fits the terminal"),
    OutputRow("clones", "markdown", (".md", ".markdown"), f"{_CHANGES}.clones:write_markdown", "Markdown"),
    OutputRow("clones", "json", (".json",), f"{_TABLE}.tables:write_json", "the result with all it holds"),
    OutputRow("chart", "png", (".png",), "zeitbuch.writers.chart.charts:write_png", "a picture"),
    OutputRow("chart", "svg", (".svg",), "zeitbuch.writers.chart.charts:write_svg", "a drawing"),
    OutputRow("flows", "yaml", (".yaml", ".yml"), "zeitbuch.writers.exchange.native:write_yaml", "the native form"),
    OutputRow("flows", "json", (".json",), "zeitbuch.writers.exchange.native:write_json", "the native form"),
    OutputRow("flows", "bpmn", (".bpmn",), "zeitbuch.writers.exchange.bpmn:write_bpmn", "BPMN 2.0 with a diagram"),
    OutputRow("flows", "serverless", (), "zeitbuch.writers.exchange.serverless:write_serverless", "Serverless Workflow 1.0, as far as it has words"),
    OutputRow("flows", "arazzo", (), "zeitbuch.writers.exchange.arazzo:write_arazzo", "Arazzo 1.0, flows that call described interfaces"),
    OutputRow("flows", "agent-spec", (), "zeitbuch.writers.exchange.agent_spec:write_agent_spec", "the Open Agent Specification, as far as it has words"),
    OutputRow("snapshot", "text", (".txt",), "zeitbuch.app.record_words:write_text", "a few lines"),
    OutputRow("snapshot", "json", (".json",), f"{_TABLE}.tables:write_json", "the result with all it holds"),
)  # fmt: skip


def formats_of(*subjects: OutputSubject) -> tuple[str, ...]:
    """The names of the formats in which any of the subjects can be written, in the order of the table."""
    return tuple(dict.fromkeys(row.name for subject in subjects for row in OUTPUTS if row.subject == subject))


def format_by_suffix(suffix: str, subjects: tuple[OutputSubject, ...]) -> str | None:
    """The format that a file's suffix ('.csv') asks for, of those in which the subjects can be written."""
    for subject in subjects:
        for row in OUTPUTS:
            if row.subject == subject and suffix in row.suffixes:
                return row.name
    return None
