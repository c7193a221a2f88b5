"""In what files made-up builders hand their flows out."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import yaml

from .words import Language

FITTED_CONTAINERS = ("files", "list", "head and list", "text")
HELD_CONTAINERS = ("files", "head and list", "object by id", "json lines", "yaml documents", "text", "wrapped twice")


def write_files(
    folder: Path, container: str, flows: list[dict[str, Any]], language: Language, draw: random.Random
) -> None:
    """The files of one estate."""
    key = language.key
    if container == "list":
        _json(folder / "all.json", flows)
    elif container == "head and list":
        _json(folder / "all.json", {"exported": "2026-11-02", key("flows"): flows})
    elif container == "object by id":
        name = key("flow id")
        _json(
            folder / "all.json",
            {key("flows"): {str(flow[name]): {k: v for k, v in flow.items() if k != name} for flow in flows}},
        )
    elif container == "json lines":
        (folder / "all.jsonl").write_text("".join(json.dumps(flow) + "\n" for flow in flows))
    elif container == "yaml documents":
        (folder / "all.yaml").write_text(yaml.safe_dump_all(flows, sort_keys=False, allow_unicode=True))
    else:
        for at, flow in enumerate(flows):
            _json(folder / f"{at:02d}.json", _wrapped(container, flow, key))


def _wrapped(container: str, flow: dict[str, Any], key: Any) -> Any:
    if container == "text":
        head = {key("flow id"), key("flow name"), key("flow state")}
        return {
            **{k: v for k, v in flow.items() if k in head},
            key("wrap"): json.dumps({k: v for k, v in flow.items() if k not in head}),
        }
    if container == "wrapped twice":
        return {"version": 3, key("wrap"): {key("flows"): [flow], "kind": "export"}}
    return flow


def _json(path: Path, value: Any) -> None:
    path.write_text(json.dumps(value, indent=1, ensure_ascii=False))
