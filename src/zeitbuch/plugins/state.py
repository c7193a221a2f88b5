# What the cache must know of plug-ins, without importing what finds them.
"""The state of installed packages."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator

FOLDERS = ("site-packages", "dist-packages")


def state_of_packages() -> Iterator[bytes]:
    """What changes when a package is installed, upgraded or removed: the states of the folders that packages are found in,
    also of those that PYTHONPATH names. (To read the entry points themselves would cost more than to read a small estate.)"""
    named = os.environ.get("PYTHONPATH", "").split(os.pathsep)
    for folder in sys.path:
        if folder.endswith(FOLDERS) or (folder and folder in named):
            try:
                yield b"%d" % os.stat(folder).st_mtime_ns
            except OSError:
                continue
