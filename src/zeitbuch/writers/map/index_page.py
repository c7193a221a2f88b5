# The list of the maps in a folder.
"""Index of a folder of maps."""

from __future__ import annotations

from html import escape

from zeitbuch.core.graph.activities import activities_of
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.words import count_words, triggers_words
from zeitbuch.writers.document.html import STYLE
from zeitbuch.writers.escape.text import make_inert


def to_index(written: list[tuple[Flow, str]]) -> str:
    """A page that links the file of each flow."""

    def t(text: str) -> str:
        return escape(make_inert(text, keep_lines=False))

    rows = "\n".join(
        f'<tr><td><a href="{escape(name)}">{t(flow.title)}</a></td><td>{t(triggers_words(flow))}</td>'
        f"<td class=num>{count_words(len(activities_of(flow)), 'activity')}</td><td>{t(', '.join(flow.owners))}</td></tr>"
        for flow, name in written
    )
    return (
        "<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n"
        "<meta name=viewport content='width=device-width, initial-scale=1'>\n"
        f"<title>Maps</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<main>\n<h1>Maps of {count_words(len(written), 'flow')}</h1>\n"
        "<div class=wide tabindex=0><table><thead><tr><th scope=col>flow</th><th scope=col>trigger</th>"
        "<th scope=col class=num>size</th><th scope=col>owner</th></tr></thead><tbody>\n"
        f"{rows}\n</tbody></table></div>\n</main>\n</body>\n</html>\n"
    )
