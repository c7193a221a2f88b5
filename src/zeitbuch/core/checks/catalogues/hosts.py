"""The hosts that flows call, and the fixed addresses that they write to."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import urlsplit

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.families.left_over import LOCAL, PLACEHOLDER
from zeitbuch.core.checks.parts import texts_of
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses, all_parts

_URL = re.compile(r"\b[a-z][a-z0-9+.-]*://[^\s\"'<>{}]+", re.IGNORECASE)
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
_TEST = re.compile(r"(?i)(?:^|[.\-@])(?:test|staging|sandbox|dev|example\.(?:com|org|net))(?:[.\-@]|$)")


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[tuple[str, str], tuple[Uses, dict[str, None]]] = {}
    for flow, part in all_parts(estate):
        for what, text in texts_of(part):
            if what.endswith("prompt"):
                continue
            for kind, name, more in _addresses_in(text):
                uses, details = found.setdefault((kind, name), (Uses(), {}))
                uses.add(flow, part)
                if more:
                    details[more] = None
    for (kind, name), (uses, details) in sorted(found.items()):
        yield {
            "name": name,
            "kind": kind,
            "paths": list(details),
            **uses.columns,
            "marks": list(_marks(kind, name, details)),
        }


def _addresses_in(text: str) -> Iterator[tuple[str, str, str]]:
    """(kind, host or address, path) of every address in a text."""
    for url in _URL.findall(text):
        try:
            parts = urlsplit(url)
            host = (parts.hostname or "").lower()
        except ValueError:
            continue
        if host:
            yield parts.scheme.lower(), host, parts.path
    for address in _MAIL.findall(_URL.sub(" ", text)):
        yield "mail", address.lower(), ""


def _marks(kind: str, name: str, details: dict[str, None]) -> Iterator[str]:
    if LOCAL.search(f"http://{name}/"):
        yield "only one machine or network reaches it"
    if kind == "http":
        yield "not encrypted"
    if _TEST.search(name):
        yield "test endpoint"
    if PLACEHOLDER.search(f"{kind}://{name}" if kind != "mail" else name):
        yield "placeholder"


CATALOGUE = Catalogue(
    "hosts", "hosts and fixed addresses", (
        Column("name", "host or address"), Column("kind", "kind"), Column("paths", "paths", "list", rank=1),
    ), _rows,
)  # fmt: skip
