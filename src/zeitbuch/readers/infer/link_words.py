"""Words for the ends of links, and for what comes before and after, in eight languages."""

from __future__ import annotations

from .survey import Path
from .vocabulary import words_of

FROM_WORDS = frozenset(
    "from source src start origin out parent begin prev previous tail von quelle ausgang de desde origen fra kilde van bron da origem "
    "depuis origine left a upstream sender".split()
)
TO_WORDS = frozenset(
    "to target dest destination in next end head child nach ziel zu vers cible a hacia destino til mal naar doel per para destinazione "
    "right b downstream receiver goto then".split()
)
BEFORE_WORDS = frozenset(
    "after needs depends require requires requiert wait waits previous prev predecessor predecessors upstream before follows "
    "following nach vorganger vorgaenger voraus benotigt abhangig apres depend despues tras etter na dopo depois input inputs ins incoming inbound inlets sources from".split()
)
AFTER_WORDS = frozenset(
    "next then goto go to follow on successor successors downstream weiter danach nachste suivant siguiente neste volgende prossimo seguinte leads "
    "outs outgoing outbound targets".split()
)


def path_has_word(path: Path, listed: frozenset[str]) -> int:
    """Whether a key of a path is one of the words; "on" says so only by itself, and not in "depends_on"."""
    return any(word in listed and (word != "on" or words == ("on",)) for words in map(words_of, path) for word in words)
