# What a writer of text must know of the place where it will be read; found out by the command line, never by a writer.
"""The look of text on a terminal or in a file."""

from __future__ import annotations

from msgspec import Struct


class TextLook(Struct, frozen=True):
    """``width`` in terminal cells, ``colour`` whether escape sequences for it are wanted, ``evidence`` whether places in the
    exports are named, ``file`` whether the text goes to a file, ``scale`` pixels a point of a picture, and ``links`` whether places become
    links."""

    width: int = 180
    colour: bool = False
    evidence: bool = False
    file: bool = False
    scale: float = 2.0
    links: bool = False
