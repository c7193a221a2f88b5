# A document that was brought into shape is no longer built as its file: messages and origins still name the place in the file.
"""Former places of what has moved within a document."""

from __future__ import annotations


class Places:
    """Where what has moved stood in the file: a layer for each rule, from place to former place. Below a place that was made of a
    text there is nothing: the place of the text stands for all."""

    def __init__(self) -> None:
        self.layers: list[tuple[dict[str, str], set[str]]] = []

    def begin_layer(self) -> tuple[dict[str, str], set[str]]:
        """The places of one rule: moved ones, and those made of a text."""
        layer: tuple[dict[str, str], set[str]] = ({}, set())
        self.layers.append(layer)
        return layer

    def former_place(self, pointer: str) -> str:
        """Where in the file stood what is now at this place."""
        for moved, texts in reversed(self.layers):
            head = pointer
            while head:
                if head in texts:
                    pointer = head
                    break
                if head in moved:
                    pointer = moved[head] + pointer[len(head) :]
                    break
                head = head.rpartition("/")[0]
        return pointer
