# Whose key is whose stands in the workspace: a signature for somebody who has one there holds only with it.
"""Keys of people who sign."""

from __future__ import annotations

import unicodedata
from collections.abc import Collection, Mapping
from pathlib import Path

from zeitbuch.book.seals import Seal, key_mark, plain_key
from zeitbuch.core.model.problems import fail

from .session import Session


def keys_of(session: Session) -> dict[str, frozenset[str]]:
    """The public keys of each person (name as it is compared) that the workspace names: lines of OpenSSH, PEM, or files that hold such. Raises
    ZeitbuchError for what is no key."""
    return {
        _plain_name(name): frozenset(key for one in given for key in _keys_in(session, name, one))
        for name, given in session.workspace.review.keys.items()
    }


def _plain_name(name: str) -> str:
    """A name as it is compared: another letter of the same look, or one more space, is no other person."""
    return " ".join(unicodedata.normalize("NFKC", name).casefold().split())


def _keys_in(session: Session, name: str, given: str) -> list[str]:
    text = given
    try:
        if not given.startswith(("ssh-", "ecdsa-", "sk-", "-----")):
            text = Path(session.workspace.path_from_here(given)).read_text(encoding="ascii")
        if text.lstrip().startswith("-----"):
            return [plain_key(text)]
        lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
        return [plain_key(line) for line in lines]
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or error
        raise fail(
            "seal",
            f"[review.keys] {name}: expected a public key, or a file with one, found {given[:60]} ({said})",
            "a line of `id_ed25519.pub`, or PEM",
        ) from None


def key_refusal(keys: Mapping[str, Collection[str]], who: str, seal: Seal | None) -> str:
    """Why a signature for somebody does not hold; empty where it does, and for those of whom the workspace names no key."""
    wanted = keys.get(_plain_name(who))
    if wanted is None:
        return ""
    if seal is None:
        return "a name alone"
    return "" if seal.key in wanted else f"the key {key_mark(seal.key)}"
