# Readers of other packages. What they give is held to the form of the model before anyone relies on it, so that
# an unknown kind is a named fault of the plug-in and not a traceback three rooms later.
"""Formats that plug-ins add."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.plugins.entry_points import PlugIn, find_plugins, lacking_problem, plugin_problem
from zeitbuch.readers.input.decoder_plugins import decoder_problem

Flows = Iterator[tuple[Flow | None, list[Problem]]]
_HOW = "docs/plugins.md says what a plug-in offers"


def format_problem(plugin: PlugIn) -> Problem | None:
    """Why a plug-in cannot be used as a format; None when it can."""
    return plugin.problem or lacking_problem(plugin, ("recognises", "flows"))


def usable_formats() -> list[PlugIn]:
    """Formats of other packages that can be used."""
    return [plugin for plugin in find_plugins("zeitbuch.formats") if format_problem(plugin) is None]


def unusable_plugins() -> list[Problem]:
    """What is wrong with formats and decoders that cannot be used."""
    found = [format_problem(plug_in) for plug_in in find_plugins("zeitbuch.formats")]
    found += [decoder_problem(plug_in) for plug_in in find_plugins("zeitbuch.decoders")]
    return [problem for problem in found if problem is not None]


def recognising_format(document: Any) -> tuple[PlugIn | None, list[Problem]]:
    """The plug-in that recognises a document, and what went wrong while they were asked."""
    problems: list[Problem] = []
    for plugin in usable_formats():
        try:
            if plugin.value.recognises(document):
                return plugin, problems
        except Exception as error:  # a foreign package must not end the run
            problems.append(_failure_problem(plugin, "recognise the document", error))
    return None, problems


def flows_of_plugin(plugin: PlugIn, document: Any, base: Origin, count: int) -> Flows:
    """The flows that a plug-in reads, each held to the form of the model; what does not keep to it is a problem."""
    try:
        for found in plugin.value.flows(document, base, count):
            flow, problems = found
            fault = _fault_of(plugin, flow)
            if fault is not None:
                yield None, [fault]
            else:
                yield flow, list(problems)
    except Exception as error:  # a foreign package must not end the run
        yield None, [_failure_problem(plugin, "read the document", error)]


def _fault_of(plugin: PlugIn, flow: Any) -> Problem | None:
    if not isinstance(flow, Flow):
        return plugin_problem(
            f"expected flows from '{plugin.name}' ({plugin.package}), found {type(flow).__name__}", _HOW
        )
    try:
        msgspec.convert(msgspec.to_builtins(flow), Flow)
    except (msgspec.ValidationError, TypeError, NotImplementedError) as error:
        words = f"expected a flow of the model from '{plugin.name}' ({plugin.package}), found: {error}"
        return plugin_problem(words, "zeitbuch.testing.check_reader shows it while the plug-in is written")
    return None


def _failure_problem(plugin: PlugIn, act: str, error: Exception) -> Problem:
    reason = f"{type(error).__name__}: {str(error)[:200]}"
    words = f"expected '{plugin.name}' ({plugin.package} {plugin.version}) to {act}, found {reason}"
    return plugin_problem(words, f"tell its maintainers, or remove it: pip uninstall {plugin.package}")
