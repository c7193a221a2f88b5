# Pages of a site that need a script of our own: a content policy names its hash, so that no other runs.
"""HTML pages with our own script and style."""

from __future__ import annotations

import base64
import hashlib
from html import escape
from importlib.resources import files

from zeitbuch.writers.document.html import STYLE
from zeitbuch.writers.escape.text import make_inert

_BEGIN = 'document.documentElement.classList.add("js")'  # before anything is laid out


def inert_text(text: str) -> str:
    """A text of an export as HTML text."""
    return escape(make_inert(text, keep_lines=False))


def _hash_of(script: str) -> str:
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return f"'sha256-{digest}'"


def scripted_page(title: str, body: str, script_file: str = "") -> str:
    """A page with the body given, the style of the site, and a script from our files."""
    folder = files(__package__)
    style = STYLE + folder.joinpath("page/site.css").read_text("utf-8")
    script = folder.joinpath(f"page/{script_file}").read_text("utf-8") if script_file else ""
    allowed = f"script-src {_hash_of(_BEGIN)} {_hash_of(script)}; " if script else ""
    policy = f"default-src 'none'; {allowed}style-src 'unsafe-inline'"
    begin = f"<script>{_BEGIN}</script>\n" if script else ""
    end = f"<script>{script}</script>\n" if script else ""
    return (
        "<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n<meta name=viewport content='width=device-width, initial-scale=1'>\n"
        f'<meta http-equiv=Content-Security-Policy content="{policy}">\n<title>{inert_text(title)}</title>\n<style>{style}</style>\n{begin}</head>\n<body>\n'
        f"<main>\n{body}\n</main>\n{end}</body>\n</html>\n"
    )
