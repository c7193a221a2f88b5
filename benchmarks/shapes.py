"""The flows of make_estate.py written in the other four shapes, one file a flow: python benchmarks/shapes.py FOLDER [FLOWS]."""

from __future__ import annotations

import json
import random
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from make_estate import flow

Value = dict[str, Any]


def _renamed(given: Value, names: dict[str, str]) -> Value:
    return {names.get(k, k): v for k, v in given.items()}


def tidemark(sheet: Value) -> Value:
    """Shape (b): basins in a flat list, currents from basin to outlet to targets."""
    makes = {"model.ask": "agent/answer", "mailbox.poll": "chat-opened", "choose.one": "switch-by-text"}
    basins, currents = [], {}
    for s in sheet["stations"]:
        given = _renamed(s["with"], {"engine": "engine", "briefing": "persona", "longest": "cap", "mooring": "link"})
        given = _renamed(given, {"on": "over", "warmth": "heat"})
        if "ways" in given:
            given["branches"] = [{"door": w["exit"], "says": w["says"], "if": w["test"]} for w in given.pop("ways")]
        make = makes.get(s["does"], "message-send" if s["does"] == "mail.send" else "http-get")
        at = [s["spot"]["x"], s["spot"]["y"]]
        basins.append({"no": s["ref"], "label": s["label"], "make": make, "dials": given, "at": at, "hue": "slate"})
    for line in sheet["lines"]:
        currents[line["out"]] = {line.get("via", "on"): [line["in"]]}
    ropes = [{"tag": m["ref"], "what": m["label"], "whose": m["as"]} for m in sheet["moorings"]]
    chart = {"code": sheet["ref"], "heading": sheet["heading"], "aim": sheet["about"], "flows_now": sheet["running"]}
    more = {"wardens": sheet["keepers"], "shelf": sheet["drawer"], "touched": sheet["touched"], "ropes": ropes}
    return {"tidemark": 4, "chart": {**chart, **more, "basins": basins, "currents": currents}}


def kvarte(sheet: Value) -> Value:
    """Shape (c): a course of steps in order, decisions holding the steps that follow."""
    acts = {"model.ask": "ai/write", "choose.one": "pick/one", "mail.send": "mail/send", "table.add": "rows/add"}
    course: list[Value] = []
    into = course
    for s in sheet["stations"][1:]:
        given = _renamed(s["with"], {"engine": "model", "briefing": "system", "ask": "user", "longest": "cap"})
        given = _renamed(given, {"mooring": "anchor", "warmth": "temperature"})
        step = {"key": s["ref"], "title": s["label"], "act": acts.get(s["does"], "rows/list"), "give": given}
        into.append({**step, "attempts": 2, "tint": "slate"})
        if "ways" in given:
            ways = given.pop("ways")
            into = []
            course[-1]["ways"] = [
                {"label": ways[0]["says"], "only_if": ways[0]["test"], "course": into},
                {
                    "label": "otherwise",
                    "rest": True,
                    "course": [{"key": f"{s['ref']}e", "title": "end", "act": "halt"}],
                },
            ]
        elif len(into) > 3:
            into = course
    anchors = [{"tag": m["ref"], "title": m["label"], "sort": m["sort"]} for m in sheet["moorings"]]
    begin = [{"key": "b", "act": "clock/every", "minutes": 5}]
    plan = {"key": sheet["ref"], "title": sheet["heading"], "purpose": sheet["about"], "live": "yes"}
    people = [{"name": n, "duty": "day"} for n in sheet["keepers"]]
    rest = {"people": people, "stamped": sheet["touched"], "anchors": anchors, "begin": begin, "course": course}
    return {"kvarte": "3", "plans": [{**plan, **rest}]}


def lockgate(sheet: Value) -> Value:
    """Shape (d): gates keyed by name, each with the gates it waits for; conditions hold gates of their own."""
    acts = {"model.ask": "model.ask", "choose.one": "condition.if", "mail.send": "mail.send", "table.add": "table.add"}
    gates: Value = {}
    into, before, left = gates, "", 0
    outer = ""
    for s in sheet["stations"][1:]:
        given = _renamed(s["with"], {"engine": "model", "briefing": "orders", "longest": "most", "on": "test"})
        given.pop("ways", None)
        name = f"{s['label']} {s['ref']}"
        gate = {"act": acts.get(s["does"], "table.find"), "give": given, "tries": {"again": 2, "every_s": 10}}
        gate["waits"] = {before: ["done"]} if before else {}
        into[name] = gate
        before = name
        if s["does"] == "choose.one":
            outer, left = name, 3
            into = {}
            gate["yes"] = {"gates": into}
            gate["no"] = {"gates": {}}
            before = ""
        elif left:
            left -= 1
            if not left:
                into, before = gates, outer
    start = {"act": "mail.arrived", "give": {"topic": "requests"}}
    masters = {"first": sheet["keepers"][0], "second": "Ola Tveit"}
    canal = {"key": sheet["ref"], "called": sheet["heading"], "why": sheet["about"], "open": "yes", "masters": masters}
    return {"lockgate": 2, "canal": {**canal, "changed": sheet["touched"], "start": start, "gates": gates}}


def pilotline(sheet: Value) -> Value:
    """Shape (e): legs that point to the next."""
    jobs = {"model.ask": "llm.generate", "mailbox.poll": "clock.interval", "choose.one": "route.switch"}
    legs, stations = [], sheet["stations"]
    for i, s in enumerate(stations):
        given = _renamed(s["with"], {"engine": "llm", "ask": "prompt", "longest": "tokens", "on": "value"})
        after: Any = stations[i + 1]["ref"] if i + 1 < len(stations) else None
        if "ways" in given:
            given["exits"] = [{"exit": w["exit"], "label": w["says"], "when": w["test"]} for w in given.pop("ways")]
            after = {"w1": [after]} if after else None
        leg = {"leg": s["ref"], "name": s["label"], "job": jobs.get(s["does"], "http.get"), "with": given}
        legs.append({**leg, **({"to": after} if after else {})})
    route = {"route": sheet["ref"], "name": sheet["heading"], "about": sheet["about"], "status": "running"}
    return {"pilotline": 1, "routes": [{**route, "pilots": sheet["keepers"], "saved": sheet["touched"], "legs": legs}]}


SHAPES: dict[str, Callable[[Value], Value]] = {f.__name__: f for f in (tidemark, kvarte, lockgate, pilotline)}


def write(folder: Path, shape: str, count: int) -> int:
    """Write ``count`` flows in one shape; returns the bytes written."""
    draw = random.Random(20261124)
    folder.mkdir(parents=True, exist_ok=True)
    total = 0
    for at in range(count):
        text = json.dumps(SHAPES[shape](flow(at, draw)["sheet"]), indent=1)
        (folder / f"{shape}-{at:05d}.json").write_text(text)
        total += len(text)
    return total


if __name__ == "__main__":
    n = int(sys.argv[2]) if len(sys.argv) > 2 else 2000
    for shape in SHAPES:
        print(f"{shape}: {write(Path(sys.argv[1]) / shape, shape, n) / n:,.0f} bytes a flow")
