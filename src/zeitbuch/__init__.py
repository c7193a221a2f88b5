"""Zeitbuch: reads exported AI workflow definitions and says what they do, cost, and what changed in them.

For notebooks: ``estate = zeitbuch.read("exports/")``, then functions named like the commands.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .version import __version__

if TYPE_CHECKING:
    from .api import (  # fmt: skip
        InputFaults,
        Problem,
        ZeitbuchError,
        calibrate,
        check,
        clones,
        compare,
        convert,
        diff,
        document,
        estimate,
        explain,
        history,
        inventory,
        map,
        read,
        reconcile,
        record,
        restore,
        review,
    )

__all__ = [
    "InputFaults",
    "Problem",
    "ZeitbuchError",
    "__version__",
    "calibrate",
    "check",
    "clones",
    "compare",
    "convert",
    "diff",
    "document",
    "estimate",
    "explain",
    "history",
    "inventory",
    "map",
    "read",
    "reconcile",
    "record",
    "restore",
    "review",
]  # fmt: skip


def __dir__() -> list[str]:
    return list(__all__)


def __getattr__(name: str) -> Any:
    # The command line must start without the weight of the rest.
    if name in __all__:
        from . import api

        return getattr(api, name)
    raise AttributeError(f"module 'zeitbuch' has no attribute '{name}'")
