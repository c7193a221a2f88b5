"""The same two flows of the ferry line, written in twenty-four structures, and the dialect of each."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from typing import Any, NamedTuple

ORDERS = "Sort the letters of passengers into claim, praise and other. Give one word."
FLOWS: list[dict[str, Any]] = [
    {
        "id": "claims", "name": "Claims of passengers",
        "steps": [
            ("in", "A letter comes", "post.came", {"box": "claims@halvorsund.example"}),
            ("sort", "Sort it", "ask.text", {"brain": "fulmar-mini-2", "orders": ORDERS, "warmth": 0.2}),
            ("pick", "A claim?", "fork.one", {"test": "word = claim"}),
            ("file", "File the claim", "sheet.add", {"sheet": "claims"}),
            ("tell", "Tell the desk", "mail.out", {"to": "desk@halvorsund.example"}),
        ],
        "links": [("in", "sort", "then"), ("sort", "pick", "then"), ("pick", "file", "claim"), ("pick", "tell", "other"),
                  ("file", "tell", "broken")],
    },
    {
        "id": "tides", "name": "Tide notices",
        "steps": [
            ("dawn", "At dawn", "clock.tick", {"times": "0 5 * * *", "zone": "Europe/Oslo"}),
            ("look", "Look up the tides", "sheet.get", {"sheet": "tides"}),
            ("say", "Put it into words", "ask.text", {"brain": "petrel-3", "orders": "Put the tides into one friendly sentence.", "warmth": 0.5}),
        ],
        "links": [("dawn", "look", "then"), ("look", "say", "then")],
    },
]  # fmt: skip
_KINDS = """
[[kind]]
operation = "post?came"
trigger = "event"
[[kind]]
operation = "clock?tick"
trigger = "schedule"
cron = "{given}times"
zone = "{given}zone"
[[kind]]
operation = "ask?text"
kind = "model"
model = "{model}"
prompts = [{{ path = "{orders}", role = "system" }}]
temperature = "{warmth}"
[[kind]]
operation = "fork?one"
kind = "decide"
condition = "{given}test"
[[kind]]
operation = "sheet?add"
kind = "write"
effect = "write"
[[kind]]
operation = "sheet?get"
kind = "read"
effect = "read"
[[kind]]
operation = "mail?out"
kind = "send"
effect = "send"
[[outlet]]
match = "broken"
role = "error"
[[outlet]]
match = "then"
role = "next"
label = ""
"""


class Structure(NamedTuple):
    """One way to write the flows: the files (name -> text), and the dialect that reads them. ``links`` is false where the files do
    not say which way a decision goes."""

    files: Callable[[], dict[str, str]]
    dialect: str
    links: bool = True


def _dialect(tables: str, given: str = "given.", all_of: str = '"$.steps"', **fields: str) -> str:
    words = {"model": f"{given}brain", "orders": f"{given}orders", "warmth": f"{given}warmth", **fields}
    head = 'dialect = 1\nname = "made"\n' + ("" if "[signature]" in tables else f"[signature]\nall = [{all_of}]\n")
    flow = "" if "[flow]" in tables else "[flow]\n"
    return head + flow + tables + _KINDS.format(given=given, **words)


def _steps(flow: dict[str, Any], *keys: str) -> list[dict[str, Any]]:
    return [dict(zip(keys, step, strict=True)) for step in flow["steps"]]


def _each(make: Callable[[dict[str, Any]], Any], suffix: str = "json") -> Callable[[], dict[str, str]]:
    def files() -> dict[str, str]:
        return {
            f"{flow['id']}.{suffix}": made if isinstance(made := make(flow), str) else json.dumps(made)
            for flow in FLOWS
        }

    return files


def _head(flow: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"id": flow["id"], "name": flow["name"], **more}


def _flat(flow: dict[str, Any], **more: Any) -> dict[str, Any]:
    return _head(flow, **{"steps": _steps(flow, "id", "name", "does", "given"), "links": _links(flow), **more})


def _links(flow: dict[str, Any], source: str = "from", target: str = "to", outlet: str = "way") -> list[dict[str, Any]]:
    return [{source: a, target: b, outlet: way} for a, b, way in flow["links"]]


MODES = {"tell": "docked"}


def _with_modes(flow: dict[str, Any]) -> dict[str, Any]:
    return _flat(
        flow, mode="afloat", steps=[{**step, "mode": MODES.get(step["id"], "afloat")} for step in _flat(flow)["steps"]]
    )


def _with_families(flow: dict[str, Any]) -> dict[str, Any]:
    steps = []
    for step in _flat(flow)["steps"]:
        kin, verb = step.pop("does").split(".")
        steps.append({**step, "kin": kin, "verb": verb})
    return _flat(flow, steps=steps)


def _by_place(flow: dict[str, Any]) -> dict[str, Any]:
    places = {step[0]: place for place, step in enumerate(flow["steps"])}
    links = [{"from": places[a], "to": places[b], "way": way} for a, b, way in flow["links"]]
    return _flat(flow, steps=_steps(flow, "code", "name", "does", "given"), links=links)


def _at_inputs(flow: dict[str, Any]) -> dict[str, Any]:
    def takes(key: str) -> dict[str, Any]:
        return {"main": [{"step": a, "way": way} for a, b, way in flow["links"] if b == key]}

    return _head(flow, steps=[{**step, "takes": takes(step["id"])} for step in _flat(flow)["steps"]])


def _in_text(flow: dict[str, Any]) -> dict[str, Any]:
    whole = _flat(flow)
    return _head(flow, body=json.dumps({"steps": whole["steps"], "links": whole["links"]}))


def _under_operation(flow: dict[str, Any]) -> dict[str, Any]:
    return _head(
        flow,
        steps=[
            {does: {"id": key, "name": name, **given, "on": _next(flow, key)}}
            for key, name, does, given in flow["steps"]
        ],
    )


def _in_lanes(flow: dict[str, Any]) -> dict[str, Any]:
    steps = list(_keyed(flow).items())
    return _head(flow, lanes={"ashore": {"tasks": dict(steps[:2])}, "aboard": {"tasks": dict(steps[2:])}})


def _next(flow: dict[str, Any], key: str) -> dict[str, str]:
    return {way: b for a, b, way in flow["links"] if a == key}


def _keyed(flow: dict[str, Any], make: Callable[[str], Any] = lambda target: target) -> dict[str, Any]:
    return {
        key: {"name": name, "does": does, "given": given, "on": {way: make(b) for way, b in _next(flow, key).items()}}
        for key, name, does, given in flow["steps"]
    }


def _given(given: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"key": key, "says": value} for key, value in given.items()]


def _table() -> dict[str, str]:
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(["flow", "step", "name", "does", "next", "given"])
    for flow in FLOWS:
        for key, name, does, given in flow["steps"]:
            ways = ";".join(f"{way}={b}" for way, b in _next(flow, key).items())
            rows.writerow([flow["name"], key, name, does, ways, json.dumps(given)])
    return {"steps.csv": out.getvalue()}


def _catalogue(flow: dict[str, Any]) -> dict[str, Any]:
    made = _flat(flow, minds=[], texts=[])
    for step in made["steps"]:
        if "brain" in step["given"]:
            made["minds"].append({"id": "m1", "engine": step["given"]["brain"], "warmth": step["given"]["warmth"]})
            made["texts"].append({"id": "t1", "words": step["given"]["orders"]})
            step["given"] = {"mind": "m1", "text": "t1"}
    return made


def _codes(flow: dict[str, Any]) -> dict[str, Any]:
    made = _flat(flow)
    words = sorted({step["does"] for step in made["steps"]})
    for step in made["steps"]:
        step["does"] = 10 + words.index(step["does"])
    return {**made, "legend": {str(10 + place): word for place, word in enumerate(words)}}


def _toml(flow: dict[str, Any]) -> str:
    def said(value: Any) -> str:
        if isinstance(value, dict):
            return "{" + ", ".join(f"{key} = {said(item)}" for key, item in value.items()) + "}"
        return json.dumps(value)

    lines = [f"id = {said(flow['id'])}", f"name = {said(flow['name'])}"]
    for key, name, does, given in flow["steps"]:
        lines += [
            "[[step]]",
            f"id = {said(key)}",
            f"name = {said(name)}",
            f"does = {said(does)}",
            f"given = {said(given)}",
        ]
        lines.append(f"on = {said(_next(flow, key))}")
    return "\n".join(lines)


def _xml(flow: dict[str, Any]) -> str:
    lines = [f'<plan id="{flow["id"]}" name="{flow["name"]}">']
    for key, name, does, given in flow["steps"]:
        sets = "".join(f'<set key="{one}">{value}</set>' for one, value in given.items())
        lines.append(f'<task id="{key}" name="{name}" does="{does}">{sets}</task>')
    lines += [f'<rope from="{a}" to="{b}" way="{way}"/>' for a, b, way in flow["links"]]
    return "\n".join([*lines, "</plan>"])


def _dump() -> dict[str, str]:
    steps = [{"plan": flow["id"], **step} for flow in FLOWS for step in _steps(flow, "id", "name", "does", "given")]
    links = [{"plan": flow["id"], **link} for flow in FLOWS for link in _links(flow)]
    return {"dump.json": json.dumps({"plans": [_head(flow) for flow in FLOWS], "steps": steps, "links": links})}


def _two_files() -> dict[str, str]:
    made = {
        f"{flow['id']}.steps.json": json.dumps(_head(flow, steps=_steps(flow, "id", "name", "does", "given")))
        for flow in FLOWS
    }
    return made | {f"{flow['id']}.ropes.json": json.dumps({"ropes": _links(flow)}) for flow in FLOWS}


def _halves(flow: dict[str, Any]) -> dict[str, Any]:
    """Links in three places, each of another role."""
    ways = {"then": "ropes", "broken": "breaks"}
    made = _flat(flow)
    for name in ("ropes", "breaks", "cases"):
        made[name] = [link for link in made["links"] if ways.get(link["way"], "cases") == name]
    for link in [*made["ropes"], *made["breaks"]]:
        del link["way"]
    del made["links"]
    return made


FLAT = '[step]\nat = "$.steps[*]"\noperation = "does"\nsettings = "given"\n'
LINK = '[[link]]\nat = "$.links[*]"\nfrom = "from"\nto = "to"\noutlet = "way"\n'
KEYED = '[step]\nat = "$.{0}[*]"\nid = "@key"\noperation = "does"\nsettings = "given"\n'
STRUCTURES: dict[str, Structure] = {
    "flat": Structure(_each(_flat), _dialect(FLAT + LINK)),
    "bare pairs": Structure(
        _each(lambda flow: _flat(flow, links=[[a, b, way] for a, b, way in flow["links"]])),
        _dialect(FLAT + LINK.replace('"from"', '"0"').replace('"to"', '"1"').replace('"way"', '"2"')),
    ),
    "pairs of ends": Structure(
        _each(lambda flow: _flat(flow, links=[{"ends": [a, b], "way": way} for a, b, way in flow["links"]])),
        _dialect(FLAT + LINK.replace('"from"', '"ends.0"').replace('"to"', '"ends.1"')),
    ),
    "catalogues": Structure(
        _each(_catalogue),
        _dialect(
            '[[catalogue]]\nat = "$.minds[*]"\nrefs = ["$.steps[*].given.mind"]\n'
            '[[catalogue]]\nat = "$.texts[*]"\nrefs = ["$.steps[*].given.text"]\n' + FLAT + LINK,
            model="given.mind.engine", warmth="given.mind.warmth", orders="given.text.words",
        ),
    ),
    "table": Structure(
        _table,
        _dialect(
            '[signature]\nall = ["$.rows[*].does"]\nsuffixes = [".csv"]\n[flow]\nat = "$.flows[*]"\nid = "flow"\nname = "flow"\n'
            '[[text]]\nat = "$.rows[*].given"\n[[split]]\nat = "$.rows[*].next"\neach = ";"\npattern = "{way}={to}"\n'
            '[[group]]\nat = "$.rows[*]"\nby = "flow"\n'
            '[step]\nat = "$.steps[*]"\nid = "step"\noperation = "does"\nsettings = "given"\n'
            '[[pointer]]\nat = "next"\ntarget = "to"\nvia = "way"\n'
        ),
    ),
    "switches in words": Structure(
        _each(_with_modes),
        _dialect('[flow]\nstate = "mode"\nstates = { afloat = "on", docked = "off" }\n' + FLAT + 'enabled = "mode"\nswitches = { afloat = true, docked = false }\n' + LINK),
    ),
    "family and verb": Structure(
        _each(_with_families),
        _dialect('[[merge]]\nat = "$.steps[*]"\npattern = "{kin}.{verb}"\ninto = "does"\n' + FLAT + LINK),
    ),
    "ends by place": Structure(
        _each(_by_place),
        _dialect(FLAT + 'id = "@key"\nnoise = ["code"]\n' + LINK),
    ),
    "wires at the inputs": Structure(
        _each(_at_inputs),
        _dialect(FLAT + '[[pointer]]\nat = "takes.main"\ntarget = "step"\nvia = "way"\nreversed = true\n'),
    ),
    "lines": Structure(
        lambda: {"flows.jsonl": "\n".join(json.dumps(_flat(flow)) for flow in FLOWS)},
        _dialect('[signature]\nall = ["$.steps"]\nsuffixes = [".jsonl"]\n' + FLAT + LINK),
    ),
    "lanes": Structure(
        _each(_in_lanes),
        _dialect(KEYED.format("lanes[*].tasks") + '[[pointer]]\nat = "on"\n', all_of='"$.lanes"'),
    ),
    "toml": Structure(
        _each(_toml, "toml"),
        _dialect('[signature]\nall = ["$.step"]\nsuffixes = [".toml"]\n' + FLAT.replace("steps", "step") + '[[pointer]]\nat = "on"\n'),
    ),
    "xml": Structure(
        _each(_xml, "xml"),
        _dialect(
            '[flow]\nat = "$.plan"\n[[pairs]]\nat = "$.plan.task[*].set"\nname = "key"\nvalue = "@text"\n'
            + FLAT.replace("steps", "task").replace('"given"', '"set"') + LINK.replace("links", "rope"),
            given="set.", all_of='"$.plan.task"',
        ),
    ),
    "settings as pairs": Structure(
        _each(lambda flow: _flat(flow, steps=[{**step, "given": _given(step["given"])} for step in _steps(flow, "id", "name", "does", "given")])),
        _dialect('[[pairs]]\nat = "$.steps[*].given"\nname = "key"\nvalue = "says"\n' + FLAT + LINK),
    ),
    "tables of a database": Structure(
        _dump,
        _dialect(
            '[flow]\nat = "$.plans[*]"\n[[gather]]\nat = "$.steps[*]"\nby = "plan"\nto = "$.plans[*]"\ninto = "tasks"\n'
            '[[gather]]\nat = "$.links[*]"\nby = "plan"\nto = "$.plans[*]"\ninto = "ropes"\n'
            + FLAT.replace("steps", "tasks") + LINK.replace("links", "ropes"),
            all_of='"$.plans", "$.steps"',
        ),
    ),
    "steps under their operation": Structure(
        _each(_under_operation),
        _dialect('[step]\nat = "$.steps[*][*]"\noperation = "@key"\nsettings = "."\n[[pointer]]\nat = "on"\n', given=""),
    ),
    "stages": Structure(
        _each(lambda flow: _head(flow, stages=[{"jobs": [step]} for step in _steps(flow, "id", "name", "does", "given")])),
        _dialect(FLAT.replace("$.steps[*]", "$.stages[*].jobs[*]") + '[order]\ngroups = "$.stages[*]"\n', all_of='"$.stages"'),
        links=False,
    ),
    "states": Structure(
        _each(lambda flow: _head(flow, first=flow["steps"][0][0], states=_keyed(flow))),
        _dialect('[flow]\nfirst = "first"\n' + KEYED.format("states") + '[[pointer]]\nat = "on"\n', all_of='"$.states"'),
    ),
    "states with guards": Structure(
        _each(lambda flow: _head(flow, states=_keyed(flow, lambda target: {"goes": target}))),
        _dialect(KEYED.format("states") + '[[pointer]]\nat = "on"\ntarget = "goes"\n', all_of='"$.states"'),
    ),
    "step and way in one text": Structure(
        _each(lambda flow: _flat(flow, links=[{"from": f"{a}:{way}", "to": b} for a, b, way in flow["links"]])),
        _dialect('[[split]]\nat = "$.links[*].from"\npattern = "{step}:{way}"\n' + FLAT + LINK.replace('"from"', '"from.step"').replace('"way"', '"from.way"')),
    ),
    "definition in a text": Structure(
        _each(_in_text),
        _dialect('[[text]]\nat = "$.body"\n' + FLAT.replace("$.steps", "$.body.steps") + LINK.replace("$.links", "$.body.links"), all_of='"$.body"'),
    ),
    "two files": Structure(
        _two_files,
        _dialect('[[beside]]\nmain = "*.steps.json"\nfile = "*.ropes.json"\ninto = "beside"\n' + FLAT + LINK.replace("$.links", "$.beside.ropes")),
    ),
    "operations as numbers": Structure(
        _each(_codes),
        _dialect('[[catalogue]]\nat = "$.legend[*]"\nid = "@key"\nrefs = ["$.steps[*].does"]\n' + FLAT + LINK),
    ),
    "wires as texts": Structure(
        _each(lambda flow: _flat(flow, links=[f"{a}:{way} -> {b}" for a, b, way in flow["links"]])),
        _dialect('[[split]]\nat = "$.links[*]"\npattern = "{from}:{way} -> {to}"\n' + FLAT + LINK),
    ),
    "several lists of links": Structure(
        _each(_halves),
        _dialect(
            FLAT + '[[link]]\nat = "$.ropes[*]"\nfrom = "from"\nto = "to"\n[[link]]\nat = "$.breaks[*]"\nfrom = "from"\nto = "to"\nrole = "error"\n'
            + LINK.replace("$.links", "$.cases")
        ),
    ),
}  # fmt: skip
