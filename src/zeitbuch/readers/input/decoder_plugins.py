# Decoders of other packages: bytes of a file in, a plain tree of objects, lists and scalars out, by the file's suffix.
"""Decoders that plug-ins add."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.plugins.entry_points import PlugIn, find_plugins, lacking_problem, plugin_problem

_HOW = "docs/plugins.md says what a plug-in offers"


def decoder_problem(plugin: PlugIn) -> Problem | None:
    """Why a plug-in cannot be used as a decoder; None when it can."""
    problem = plugin.problem or lacking_problem(plugin, ("decode",))
    if problem is not None:
        return problem
    suffixes = getattr(plugin.value, "SUFFIXES", None)
    if not isinstance(suffixes, tuple) or not all(isinstance(item, str) and item.startswith(".") for item in suffixes):
        found = (
            f"expected SUFFIXES of '{plugin.name}' ({plugin.package}) to be a tuple like ('.ini',), found {suffixes!r}"
        )
        return plugin_problem(found, _HOW)
    return None


def decoder_for(name: str, raw: bytes) -> PlugIn | None:
    """The plug-in that decodes a file: by the suffix of its name, else by its content where the plug-in can tell."""
    by_suffix = decoder_by_suffix(name)
    return by_suffix or next((plugin for plugin in _usable_decoders() if _recognises_bytes(plugin, raw)), None)


def decoder_by_suffix(name: str) -> PlugIn | None:
    """The plug-in that decodes files of this name."""
    lower = name.lower()
    return next((plugin for plugin in _usable_decoders() if lower.endswith(plugin.value.SUFFIXES)), None)


def _usable_decoders() -> list[PlugIn]:
    return [plugin for plugin in find_plugins("zeitbuch.decoders") if decoder_problem(plugin) is None]


def _recognises_bytes(plugin: PlugIn, raw: bytes) -> bool:
    recognises = getattr(plugin.value, "recognises_bytes", None)
    try:
        return recognises is not None and bool(recognises(raw))
    except Exception as error:  # a foreign package must not end the run
        raise ZeitbuchError(_decoder_failure(plugin, "look at bytes", error)) from None


def _decoder_failure(plugin: PlugIn, act: str, error: Exception) -> Problem:
    reason = f"{type(error).__name__}: {str(error)[:200]}"
    words = f"expected '{plugin.name}' ({plugin.package} {plugin.version}) to {act}, found {reason}"
    return plugin_problem(words, f"tell its maintainers, or remove it: pip uninstall {plugin.package}")


def decode_by_plugin(plugin: PlugIn, name: str, raw: bytes) -> Any:
    """The plain tree in a file. Raises ZeitbuchError when the plug-in fails or gives anything else than a plain tree."""
    try:
        value = plugin.value.decode(name, raw)
    except Exception as error:  # a foreign package must not end the run
        raise ZeitbuchError(_decoder_failure(plugin, f"decode {name}", error)) from None
    strange = _strange_type(value)
    if strange:
        words = f"expected a plain tree (objects, lists, texts, numbers) from '{plugin.name}', found {strange}"
        raise ZeitbuchError(plugin_problem(words, _HOW))
    return value


def _strange_type(value: Any) -> str:
    """The type of a value that no plain tree holds; empty where there is none."""
    waiting = [value]
    while waiting:
        one = waiting.pop()
        if type(one) is dict:
            if any(type(key) is not str for key in one):
                return "an object with a key that is no text"
            waiting += one.values()
        elif type(one) is list:
            waiting += one
        elif one is not None and type(one) not in (str, int, float, bool):
            return type(one).__name__
    return ""
