# What model calls are billed by. A new unit is one row here, its price field in rate_card.Price and, where its amount can be
# declared, a quantity; a test holds the three together.
"""The table of rate units."""

from __future__ import annotations

from functools import cache
from typing import Literal

from msgspec import Struct

from zeitbuch.core.model.records import Modality

UnitName = Literal["input", "cached", "output", "characters", "second", "video_second", "image", "page", "call"]
PER_MILLION = 1_000_000


class UnitRow(Struct, frozen=True):
    """One unit, named like its field of a price.

    ``title`` in tables ("input tokens"), ``phrase`` behind a number in a list ("tokens in,"); ``size`` units have the stated
    price. ``free_by_call``: where a model is billed by the call only, it costs nothing more. ``quantity`` is the assumption that
    says how much one pass uses, for models of these ``modalities``.
    """

    unit: UnitName
    title: str
    phrase: str
    size: int = 1
    free_by_call: bool = False
    quantity: str = ""
    modalities: tuple[Modality, ...] = ()


UNIT_ROWS: tuple[UnitRow, ...] = (
    UnitRow("input", "input tokens", "tokens in,", PER_MILLION),
    UnitRow("cached", "input tokens from the vendor's cache", "cached tokens in,", PER_MILLION),
    UnitRow("output", "output tokens", "tokens out,", PER_MILLION),
    UnitRow("characters", "characters of speech", "characters,", PER_MILLION, free_by_call=True),
    UnitRow("second", "second of sound", "seconds,", free_by_call=True, quantity="sound", modalities=("transcription",)),
    UnitRow("video_second", "second of video", "seconds of video,", free_by_call=True, quantity="video", modalities=("vision", "image")),
    UnitRow("image", "image", "images,", free_by_call=True, quantity="images", modalities=("vision", "image")),
    UnitRow("page", "page", "pages,", free_by_call=True, quantity="pages"),
    UnitRow("call", "call", "calls,"),
)  # fmt: skip
UNITS: dict[str, UnitRow] = {row.unit: row for row in UNIT_ROWS}


@cache
def media_of(modality: Modality) -> tuple[UnitRow, ...]:
    """The units besides tokens that a model of a modality is billed by, where their amount is an assumption."""
    return tuple(row for row in UNIT_ROWS if modality in row.modalities)
