# What the layout of a level is made of and what it gives: boxes with what is in them, and blocks of placed things.
"""Pieces and blocks of a map."""

from __future__ import annotations

from msgspec import Struct, structs

from .geometry import TAB_HEIGHT, Band, Card, Frame, PlacedCard, Route


class Block(Struct):
    """A level laid out, with coordinates from its own left upper corner."""

    width: float
    height: float
    cards: list[PlacedCard]
    frames: list[Frame]
    routes: list[Route]
    rows: list[tuple[float, list[str]]]
    bands: list[Band]


class Piece(Struct):
    """A box of a level: a card, or a frame with what is in it. In a map from left to right the layout works on its mirror
    image at the diagonal; ``drawn`` is the card as it will be seen."""

    card: Card
    inner: Block | None
    width: float  # of the card or frame, without lanes for links that go back
    height: float
    back: int = 0
    drawn: Card | None = None
    depth: float = TAB_HEIGHT  # how far its tabs stand out

    @property
    def seen(self) -> Card:
        return self.drawn if self.drawn is not None else self.card


def shift_block(block: Block, dx: float, dy: float) -> Block:
    """A block with all coordinates moved. They are rounded once, when the whole map is placed."""
    return structs.replace(
        block,
        cards=[structs.replace(c, x=c.x + dx, y=c.y + dy) for c in block.cards],
        frames=[structs.replace(f, x=f.x + dx, y=f.y + dy) for f in block.frames],
        routes=[structs.replace(r, points=tuple([(x + dx, y + dy) for x, y in r.points])) for r in block.routes],
        bands=[structs.replace(b, top=b.top + dy) for b in block.bands],
    )


def mirror_block(block: Block) -> Block:
    """A block with its sides changed: what ran down runs to the right."""
    return Block(
        width=block.height,
        height=block.width,
        cards=[structs.replace(c, x=c.y, y=c.x) for c in block.cards],
        frames=[structs.replace(f, x=f.y, y=f.x, width=f.height, height=f.width) for f in block.frames],
        routes=[structs.replace(r, points=tuple((y, x) for x, y in r.points)) for r in block.routes],
        rows=[],
        bands=[],
    )


def round_block(block: Block) -> Block:
    """A block whose coordinates have two decimals: what is drawn, and the same on every machine."""
    return structs.replace(
        block,
        cards=[structs.replace(c, x=round(c.x, 2), y=round(c.y, 2)) for c in block.cards],
        frames=[structs.replace(f, x=round(f.x, 2), y=round(f.y, 2)) for f in block.frames],
        routes=[
            structs.replace(r, points=tuple([(round(x, 2), round(y, 2)) for x, y in r.points])) for r in block.routes
        ],
        bands=[structs.replace(b, top=round(b.top, 2)) for b in block.bands],
    )
