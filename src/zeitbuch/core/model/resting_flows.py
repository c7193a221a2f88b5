# A flow in memory takes five times the room of its bytes, and a process that only looks at one copies the pages on which it lies:
# of a hundred thousand flows that is gigabytes. As bytes they rest; whoever asks for one gets it made anew.
"""The flows of a large estate, kept as bytes."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Sequence
from functools import cache
from typing import overload

import msgspec

from .records import Flow

MOST_AWAKE = 2_000  # flows that are kept as they are
_BLOCK = 4_000_000  # bytes that are kept together


@cache
def _encoder() -> msgspec.msgpack.Encoder:
    return msgspec.msgpack.Encoder()


@cache
def _decoder() -> msgspec.msgpack.Decoder[Flow]:
    return msgspec.msgpack.Decoder(Flow)


class RestingFlows(Sequence[Flow]):
    """Flows in their order, each made of its bytes whenever it is asked for: equal each time, and another object."""

    def __init__(self) -> None:
        self._blocks: list[bytes] = []
        self._open = bytearray()
        self._spots = array("Q")  # for each flow the number of its block and where it begins and ends there
        self._odd: dict[int, Flow] = {}  # flows that have no bytes

    def add_flow(self, flow: Flow) -> None:
        """Puts a flow behind the others."""
        try:
            raw = _encoder().encode(flow)
        except (TypeError, ValueError, OverflowError):
            self._odd[len(self)] = flow
            raw = b""
        begin = len(self._open)
        self._open += raw
        self._spots.extend((len(self._blocks), begin, len(self._open)))
        if len(self._open) >= _BLOCK:
            self._blocks.append(bytes(self._open))
            self._open.clear()

    def __len__(self) -> int:
        return len(self._spots) // 3

    @overload
    def __getitem__(self, place: int) -> Flow: ...

    @overload
    def __getitem__(self, place: slice) -> list[Flow]: ...

    def __getitem__(self, place: int | slice) -> Flow | list[Flow]:
        places = range(len(self))[place]
        return [self._flow_at(one) for one in places] if isinstance(places, range) else self._flow_at(places)

    def __iter__(self) -> Iterator[Flow]:
        return map(self._flow_at, range(len(self)))

    def _flow_at(self, place: int) -> Flow:
        if place in self._odd:
            return self._odd[place]
        block, begin, end = self._spots[3 * place : 3 * place + 3]
        held = self._blocks[block] if block < len(self._blocks) else self._open
        with memoryview(held) as whole:
            return _decoder().decode(whole[begin:end])


def resting_if_many(flows: Iterable[Flow], most: int | None = None) -> Sequence[Flow]:
    """The flows as they are, or resting once they are more than ``most`` (None: ``MOST_AWAKE``)."""
    most = MOST_AWAKE if most is None else most
    awake: list[Flow] = []
    resting: RestingFlows | None = None
    for flow in flows:
        if resting is None and len(awake) < most:
            awake.append(flow)
            continue
        if resting is None:
            resting = RestingFlows()
            for one in awake:
                resting.add_flow(one)
            awake.clear()
        resting.add_flow(flow)
    return tuple(awake) if resting is None else resting
