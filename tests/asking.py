"""Asks the process that has the program loaded (`started.py`) for a run. As a script it is the program for shells and for git: it loads
next to nothing itself."""

import json
import os
import socket
import sys
from pathlib import Path


def ask(place, words, cwd, env, handles):  # type: ignore[no-untyped-def]
    """The exit status of a run with these words, folder, environment, and handles of its three streams."""
    with socket.socket(socket.AF_UNIX) as asking:
        asking.connect(place)
        said = json.dumps({"words": words, "cwd": cwd, "env": env}).encode() + b"\n"
        sent = socket.send_fds(asking, [said], handles)
        asking.sendall(said[sent:])
        answer = asking.makefile().readline()
    return int(answer) if answer else 70  # it was killed


if __name__ == "__main__":
    beside = str(Path(__file__).resolve().with_name("socket"))
    sys.exit(ask(beside, sys.argv[1:], str(Path.cwd()), dict(os.environ), [0, 1, 2]))
