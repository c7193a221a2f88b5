"""Words for on, off and draft in ten languages."""

from __future__ import annotations

from collections.abc import Sequence

# English, German, French, Spanish, Portuguese, Italian, Dutch, Swedish, Norwegian and Danish, as their dictionaries have them.
_CLEARLY_ON = frozenset(
    "active enabled live published deployed aktiv aktiviert aktiverad aktivert aktiveret veröffentlicht actif active activé activée publié publiée "
    "activo activa activado activada habilitado habilitada publicado publicada ativo ativa ativado ativada attivo attiva attivato pubblicato abilitato "
    "actief ingeschakeld gepubliceerd publicerad publisert udgivet ligado encendido".split()
)
_ON = _CLEARLY_ON | frozenset("on yes true running ja oui si started an ein marche pa aan acceso 1 y".split())
_CLEARLY_OFF = frozenset(
    "inactive disabled paused archived inaktiv deaktiviert pausiert archiviert inaktiverad avaktiverad pausad arkiverad deaktivert arkivert deaktiveret "
    "inactif inactive désactivé désactivée archivé inactivo inactiva desactivado desactivada deshabilitado deshabilitada pausado archivado inativo inativa "
    "desativado desativada desabilitado arquivado inattivo inattiva disattivato disabilitato sospeso archiviato inactief uitgeschakeld gepauzeerd "
    "gearchiveerd desligado apagado".split()
)
_OFF = _CLEARLY_OFF | frozenset(
    "off no false stopped nein non aus n retired suspended asleep muted halted arret av uit nei nee spento 0".split()
)
_CLEARLY_DRAFT = frozenset("draft entwurf brouillon borrador utkast bozza rascunho kladd kladde".split())
_DRAFT = _CLEARLY_DRAFT | frozenset("concept test".split())
# As what stands under them is called, so do keys begin: "suspend", "isPaused". "stop" and "hold" also say when, or why.
_OFF_STEMS = (
    "suspen", "paus", "disabl", "deactiv", "deaktiv", "desactiv", "désactiv", "desativ", "inactiv", "inaktiv", "inativ", "frozen", "freez", "archiv",
    "retired", "snooz", "deshabil", "desabil", "disabilit", "disattiv", "inattiv", "sospe", "stillgelegt", "gesperrt", "uitgeschakeld", "gepauz", "avaktiv",
)  # fmt: skip
FLAGS = frozenset({"true", "false", "0", "1"})
TRUE = frozenset({"true", "1"})
_CLEAR = _CLEARLY_ON | _CLEARLY_OFF | _CLEARLY_DRAFT


def state_of_word(word: str) -> str:
    """on, off or draft; empty when the word says none of them."""
    low = word.lower()
    return "on" if low in _ON else "off" if low in _OFF else "draft" if low in _DRAFT else ""


def is_off_key(words: Sequence[str]) -> bool:
    """Whether a key of these words is true of what is off: "paused", "suspend", and not "pauseBetweenRounds"."""
    return any(len(word) > 3 and state_of_word(word) == "off" for word in words) or (
        len(words) <= 2 and any(word.startswith(_OFF_STEMS) for word in words)
    )


def says_state(word: str) -> bool:
    """Whether a word can hardly mean anything but a state; "on", "test" or "running" can."""
    return word.lower() in _CLEAR
