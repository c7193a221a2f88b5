"""Made-up builders that keep the names of their models among the variables of a flow."""

from __future__ import annotations

import random
from typing import TYPE_CHECKING, Any

from .words import Language

if TYPE_CHECKING:
    from .flows import Drawn

_NAMES = {
    True: ("mainModel", "chat_model", "secondModel", "third_model"),
    False: ("thinker", "reader_1", "brain-b", "pen", "wit", "ear"),
}
_OTHERS = {True: {"greeting": "Dear passenger", "most": 12}, False: {"farewell": "Ha det", "from_desk": "deck 3"}}


class ValueMaker:
    """Puts the models of flows into variables; a stream of its own, so that other draws stay as they are."""

    def __init__(self, language: Language, seed: str) -> None:
        self.words, self.draw = language, random.Random(f"values/{seed}")
        self.way = self.draw.choice(("", "", "", "object", "list"))
        self.bare = self.draw.random() < 0.3 and self.way == "object"  # nothing stands before the name

    def move_models(self, flow: Drawn) -> None:
        """Steps name a variable each where they named their model."""
        if not self.way:
            return
        if not self.words.has_key("values"):
            for concept in ("values", "value name", "value"):
                self.words.add_key(concept, self.draw)
        words, key = self.words, self.words.key
        opening = words.open + ("" if self.bare else f"{key('values')}.")
        names: dict[str, str] = {}
        for box in flow.every:
            if box.model:
                name = names.setdefault(box.model, _NAMES[words.traits.fitted][len(names)])
                box.settings[key("model")] = f"{opening}{name}{words.close}"
        values: dict[str, Any] = {name: model for model, name in names.items()} | _OTHERS[words.traits.fitted]
        flow.head[key("values")] = (
            values
            if self.way == "object"
            else [{key("value name"): name, key("value"): value} for name, value in values.items()]
        )
