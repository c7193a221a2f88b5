"""Words for on, off and draft in eight languages."""

from __future__ import annotations

_ON = frozenset(
    "on yes true active enabled live running published ja oui si aktiv actif activo attivo ativo actief deployed started an ein marche pa ligado encendido acceso aan 1".split()
)
_OFF = frozenset(
    "off no false inactive disabled paused stopped archived nein non aus inaktiv inactif inactivo inattivo inativo inactief retired suspended asleep "
    "muted halted arret av uit nei nee desligado apagado spento 0".split()
)
_DRAFT = frozenset("draft entwurf brouillon borrador utkast concept bozza rascunho test".split())

_CLEAR = frozenset(
    "active inactive enabled disabled live published deployed draft paused archived aktiv inaktiv actif inactif activo inactivo attivo inattivo ativo "
    "inativo actief inactief ligado desligado encendido apagado entwurf brouillon borrador utkast bozza rascunho".split()
)


def state_of_word(word: str) -> str:
    """on, off or draft; empty when the word says none of them."""
    low = word.lower()
    return "on" if low in _ON else "off" if low in _OFF else "draft" if low in _DRAFT else ""


def says_state(word: str) -> bool:
    """Whether a word can hardly mean anything but a state; "on", "test" or "running" can."""
    return word.lower() in _CLEAR
