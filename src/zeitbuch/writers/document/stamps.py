# A page that somebody has filled in or edited is theirs: each page carries the hash of what was written, so that a second run can tell, and leave it.
"""Pages as they were written, and pages that somebody edited."""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
from pathlib import PurePath

_MARK = re.compile(rb"\n<!-- written by zeitbuch ([0-9a-f]{64}) -->\n$")
_TEXTS = frozenset({".html", ".md"})


def stamped(name: str, content: str | bytes) -> bytes:
    """A page with the hash of what was written; pictures as they are."""
    raw = content.encode("utf-8", "replace") if isinstance(content, str) else content
    suffix = PurePath(name).suffix
    if suffix in _TEXTS:
        body = raw.rstrip(b"\n")
        return body + f"\n<!-- written by zeitbuch {hashlib.sha256(body).hexdigest()} -->\n".encode()
    return _with_comment(raw) if suffix == ".docx" else raw


def is_as_written(name: str, raw: bytes) -> bool:
    """Whether a file is a page as it was written; of other files than pages nobody asks."""
    suffix = PurePath(name).suffix
    if suffix in _TEXTS:
        found = _MARK.search(raw)
        return found is not None and hashlib.sha256(raw[: found.start()]).hexdigest().encode() == found.group(1)
    return suffix != ".docx" or _comment_holds(raw)


def without_stamp(raw: bytes) -> bytes:
    """The text of a page (HTML, Markdown) as it was written."""
    return _MARK.sub(b"\n", raw)


def _with_comment(raw: bytes) -> bytes:
    """A Word file whose archive has a comment: the hash of all it holds. Whoever saves it writes another archive."""
    buffer = io.BytesIO(raw)
    with zipfile.ZipFile(buffer, "a") as archive:
        archive.comment = _digest_of(archive)
    return buffer.getvalue()


def _comment_holds(raw: bytes) -> bool:
    try:
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            return archive.comment == _digest_of(archive)
    except (zipfile.BadZipFile, OSError, EOFError):
        return False


def _digest_of(archive: zipfile.ZipFile) -> bytes:
    made = hashlib.sha256()
    for name in sorted(archive.namelist()):
        made.update(name.encode() + b"\0" + archive.read(name))
    return b"written by zeitbuch " + made.hexdigest().encode()
