# ruff: noqa: E501  (faults are easier to compare line by line)
"""Plant faults in random estates that are in order, and count what `check` finds: python benchmarks/planted_faults.py [ESTATES A FAULT] [SEED].

Says for each class how many of the planted faults were found, and how many findings of medium severity or higher the estates have that are in
order. The estates, the faults and the words are drawn apart from the tests of the checks.
"""

from __future__ import annotations

import random
import sys
from collections.abc import Callable
from typing import NamedTuple

import msgspec
from clean_flows import PEOPLE, Json, Maker, clean_estate, pay_desk

from zeitbuch.core.checks.records import CheckFinding, Copied, EstateFacts, Person
from zeitbuch.core.checks.registry import check_flows
from zeitbuch.core.diff.clones import detect_clones
from zeitbuch.core.diff.left_over import left_words
from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.rate_card import RateCard

FACTS = EstateFacts(today="2026-11-15", people=tuple(Person(name) for name in PEOPLE))
CARD = msgspec.convert({
    "currency": "EUR",
    "model": [{"name": "plover-small", "context": 8000}, {"name": "plover-large", "context": 32000}, {"name": "plover-vectors"}, {"name": "heron-1", "retires": "2026-06-01"}],
}, RateCard)  # fmt: skip


class Plant(NamedTuple):
    """A fault: what puts it into the first flow of an estate, the block that it needs, the codes that tell of it, and whether a static look can
    be sure."""

    put: Callable[[Maker, random.Random, list[Json]], None]
    codes: tuple[str, ...]
    needs: str = ""
    sure: bool = True


def of_kind(made: Maker, kind: str) -> list[Json]:
    return [step for step in made.flow["steps"] if step["kind"] == kind]


def leads(made: Maker, source: str, role: str = "next") -> list[Json]:
    return [link for link in made.flow["links"] if link["source"] == source and link.get("role", "next") == role]


def label_decision(made: Maker) -> Json:
    return next(step for step in of_kind(made, "decide") if step.get("refs"))


def label_model(made: Maker) -> Json:
    key = label_decision(made)["refs"][0]["step"]
    return next(step for step in made.flow["steps"] if step["id"] == key)


# -- labels -----------------------------------------------------------------------------------------------------------------


def misspelt_label(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    link = rng.choice([one for one in leads(made, label_decision(made)["id"], "case") if not one.get("otherwise")])
    word = link["label"]
    prompt = label_model(made)["model"]["prompts"][0]
    glued, split = "exit ramp", "exitramp"
    prompt["text"] = prompt["text"].replace(word, split)
    link |= {"label": glued, "condition": link["condition"].split("==")[0] + f"== '{glued}'"}


def unknown_label(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    link = rng.choice([one for one in leads(made, label_decision(made)["id"], "case") if not one.get("otherwise")])
    link |= {"label": "quarantine", "condition": link["condition"].split("==")[0] + "== 'quarantine'"}


def lost_answer(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    decision = label_decision(made)["id"]
    cases = leads(made, decision, "case")
    gone = [one for one in cases if one.get("otherwise")] + [next(one for one in cases if not one.get("otherwise"))]
    made.flow["links"] = [one for one in made.flow["links"] if one not in gone]


def no_rest(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["links"] = [one for one in made.flow["links"] if not one.get("otherwise")]


def other_language(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    cases = [one for one in leads(made, label_decision(made)["id"], "case") if not one.get("otherwise")]
    for link, word in zip(cases, ["erstattung", "umtausch", "anfrage"], strict=False):
        link |= {"label": word, "condition": link["condition"].split("==")[0] + f"== '{word}'"}


def status_words(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    one, other = rng.choice(
        [("approved", "Approved"), ("cancelled", "canceled"), ("delivery", "deliveries"), ("in transit", "In transit")]
    )
    made.add(
        "write", "Mark it", effect="write", retry={"attempts": 1, "wait": 3}, inputs=[{"name": "status", "value": one}]
    )
    flows[1]["steps"].append(
        {"id": "waits", "kind": "decide", "name": "Ready?", "condition": f"row.status == '{other}'"}
    )
    flows[1]["links"] += [
        {"source": "start", "target": "waits"},
        {"source": "waits", "target": flows[1]["steps"][0]["id"], "role": "case", "label": "yes"},
        {"source": "waits", "target": flows[1]["steps"][0]["id"], "role": "case", "otherwise": True},
    ]


# -- failure ----------------------------------------------------------------------------------------------------------------


def no_handling(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["triggers"] = [{"id": "start", "kind": "schedule", "schedule": {"cron": "10 7 * * *", "zone": "UTC"}}]
    made.write()
    made.flow["steps"] = [
        one
        for one in made.flow["steps"]
        if one["kind"] != "guard" and one.get("scope", "").partition("_")[0] != "guard"
    ]
    for step in made.flow["steps"]:
        step.pop("retry", None)
    known = {one["id"] for one in made.flow["steps"]} | {"start"}
    made.flow["links"] = [
        one for one in made.flow["links"] if {one["source"], one["target"]} <= known and one.get("role") != "error"
    ]


def ignored_fault(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start")
    model["on_fault"] = "continue"
    made._use()


def repeated_send(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.notify()
    made.flow["steps"][-1]["retry"] = {"attempts": rng.randint(1, 4)}


def short_timeout(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    step = made.add(
        "http",
        "Ring the scales",
        effect="read",
        timeout=rng.choice([5, 20]),
        timeout_for="all",
        retry={"attempts": 3, "wait": 15},
    )
    assert step


def silence_approves(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    of_kind(made, "approve")[-1]["approval"]["silence"] = "approves"


def endless_approval(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    step = of_kind(made, "approve")[-1]
    step["approval"]["silence"] = "waits"
    del step["timeout"]


def unanswered(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    del of_kind(made, "approve")[-1]["approval"]["silence"]


def handler_missing(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["triggers"] = [{"id": "start", "kind": "event", "event": "x"}]
    made.write()
    made.flow["links"] = [one for one in made.flow["links"] if one.get("role") != "error"]
    flows.append(
        {
            "id": "watch",
            "name": "Fault watch",
            "description": "Tells of faults.",
            "owners": PEOPLE[:2],
            "triggers": [{"id": "f", "kind": "fault"}],
            "steps": [{"id": "s", "kind": "send", "name": "Tell", "effect": "send"}],
            "links": [{"source": "f", "target": "s"}],
        }
    )
    flows[1]["fault_handlers"] = ["watch"]


def dead_error_route(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    told = next(link for link in made.flow["links"] if link.get("role") == "error")
    step = next(one for one in made.flow["steps"] if one["id"] == told["target"])
    step |= {"kind": rng.choice(["end", "shape", "wait"]), "effect": "none"}
    step.pop("connection", None)


# -- load -------------------------------------------------------------------------------------------------------------------


def uncapped_agent(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    del of_kind(made, "agent")[-1]["model"]["max_turns"]


def endless_loop(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    of_kind(made, "loop")[-1]["repeat"] = {"until": "the tray is empty"}


def endless_circle(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["steps"] = [
        {"id": "p", "kind": "shape", "name": "Clean"},
        {"id": "q", "kind": "http", "name": "Fetch more", "effect": "read"},
    ]
    made.flow["links"] = [
        {"source": "start", "target": "p"},
        {"source": "p", "target": "q"},
        {"source": "q", "target": "p"},
    ]
    made.flow["connections"] = []


def early_call(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model("start")
    made.add("decide", "From a customer?", refs=made.reference("start", "kind")[1])
    made.case = {
        "role": "case",
        "label": "customer",
        "condition": "{start.kind} == 'customer'",
        "refs": made.reference("start", "kind")[1],
    }
    made.write()


def eager_poll(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["triggers"] = [{"id": "start", "kind": "polling", "schedule": {"every": rng.choice([2, 10, 30])}}]


def same_call(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    first = made.model("start")
    second = made.model("start")
    second["model"] = dict(first["model"])
    made.add(
        "write",
        "Keep both",
        effect="write",
        inputs=[made.takes("a", first["id"]), made.takes("b", second["id"])],
        retry={"attempts": 1, "wait": 2},
    )


def two_models(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    same_call(made, rng, flows)
    first, second = made.flow["steps"][-3:-1]
    first["model"]["name"] = "plover-small"
    second["model"]["name"] = "plover-large"


def single_writes(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    loop = of_kind(made, "loop")[-1]["id"]
    inner = [one for one in made.flow["steps"] if one.get("scope") == loop and one["kind"] == "model"]
    made.flow["steps"] = [one for one in made.flow["steps"] if one not in inner]
    gone = {one["id"] for one in inner}
    made.flow["links"] = [one for one in made.flow["links"] if one["source"] not in gone]
    next(one for one in made.flow["steps"] if one.get("scope") == loop)["inputs"] = [made.takes("row", loop, "item")]


def same_minute(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    for flow in flows[:5]:
        flow["triggers"] = [{"id": "start", "kind": "schedule", "schedule": {"cron": "0 8 * * *", "zone": "UTC"}}]
        flow["steps"].append(
            {
                "id": "sum",
                "kind": "model",
                "name": "Sum up",
                "model": {"name": "plover-small", "max_output": 50, "prompts": [{"text": f"Sum up {flow['id']}"}]},
            }
        )
        flow["links"].append({"source": "start", "target": "sum"})


# -- left over --------------------------------------------------------------------------------------------------------------


def placeholder(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    rng.choice([one for one in made.flow["steps"] if one["kind"] in ("send", "write", "http", "read")])[
        "inputs"
    ].append({"name": "code", "value": rng.choice(["CHANGE_ME", "TODO", "<your token>", "xxx REPLACE_ME"])})


def empty_recipient(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.notify()
    made.flow["steps"][-1]["inputs"][0]["value"] = ""


def localhost(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["environment"] = "production"
    made.add(
        "http",
        "Call it",
        effect="read",
        inputs=[
            {
                "name": "url",
                "value": rng.choice(
                    ["http://localhost:3000/a", "http://127.0.0.1/x", "https://192.168.4.7/api", "http://10.2.0.9:80/"]
                ),
            }
        ],
    )


def drive_path(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["environment"] = "production"
    made.add(
        "read",
        "Read the list",
        effect="read",
        inputs=[{"name": "file", "value": rng.choice(["C:\\lists\\a.csv", "\\\\nas4\\share\\a.csv"])}],
    )


def test_recipient(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["environment"] = "production"
    made.notify()
    made.flow["steps"][-1]["inputs"][0]["value"] = rng.choice(
        ["test@line.example", "someone@test.example", "jane.doe@line.example"]
    )


def unreached(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["steps"].append({"id": "alone", "kind": "write", "name": "Old step", "effect": "write"})


def unmet_join(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    """A step that waits for both cases of a decision of its own, before the first step."""
    way = next(one for one in made.flow["links"] if one["source"] == made.flow["triggers"][0]["id"])
    first, way["target"] = way["target"], "choice"
    names = {"choice": "Which desk?", "east": "East desk", "west": "West desk", "both": "Both desks"}
    made.flow["steps"] += [
        {"id": key, "kind": "decide" if key == "choice" else "shape", "name": name} for key, name in names.items()
    ]
    made.flow["steps"][-1] |= {"kind": "join", "join": "all"}
    made.flow["links"] += [
        {"source": "choice", "target": key, "role": "case", "label": key} for key in ("east", "west")
    ]
    made.flow["links"] += [
        {"source": "east", "target": "both"},
        {"source": "west", "target": "both"},
        {"source": "both", "target": first},
    ]


def leading_end(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    steps = {step["id"] for step in made.flow["steps"] if not step.get("scope")}
    ways = [one for one in made.flow["links"] if one.get("role", "next") == "next"]
    way = rng.choice([one for one in ways if one["target"] in steps])
    made.flow["steps"].append({"id": "over", "kind": "end", "name": "That was all"})
    made.flow["links"].append({"source": "over", "target": way["target"]})
    way["target"] = "over"


def source_off(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    step = made.model("start")
    made._use()
    step["enabled"] = False


def unused_connection(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["connections"].append({"id": "spare", "name": "Spare box", "service": "mailbox"})


def unused_variable(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["variables"].append({"name": "ceiling_price", "value": 120})


def default_name(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["name"] = rng.choice([f"Copy of {made.flow['name']}", f"{made.flow['name']} copy", "Untitled flow"])


def default_steps(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    rng.choice([one for one in made.flow["steps"] if one["kind"] != "note"])["name"] = rng.choice(
        ["Set fields 2", "Code1", "New node", "HTTP Request 4"]
    )


def sample_data(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["environment"] = "production"
    rng.choice([one for one in made.flow["steps"] if one["kind"] != "note"])["sample"] = True


def missed_edit(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    keep: list[str] = []
    for town in ("Lund", "Visby"):
        rows = [
            {"id": f"r{town}", "kind": "read", "name": f"Read the {town} tray", "operation": "base.read", "effect": "read", "inputs": [{"name": "table", "value": f"{town} trays"}]},
            {"id": f"s{town}", "kind": "shape", "name": f"Sort the {town} tray", "operation": "base.shape", "inputs": [{"name": "by", "value": "weight"}]},
            {"id": f"w{town}", "kind": "send", "name": f"Tell {town}", "operation": "base.send", "effect": "send", "inputs": [{"name": "to", "value": "Lund office", "role": "recipient"}]},
        ]  # fmt: skip
        keep += [one["id"] for one in rows]
        made.flow["steps"] += rows
    made.flow["steps"].append(
        {"id": "by", "kind": "decide", "name": "Which town?", "refs": made.reference("start", "town")[1]}
    )
    made.flow["links"] += [{"source": "start", "target": "by"}]
    for town in ("Lund", "Visby"):
        made.flow["links"] += [
            {"source": "by", "target": f"r{town}", "role": "case", "label": town},
            {"source": f"r{town}", "target": f"s{town}"},
            {"source": f"s{town}", "target": f"w{town}"},
        ]


# -- references -------------------------------------------------------------------------------------------------------------


def missing_step(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.add("write", "Keep it", effect="write", retry={"attempts": 1, "wait": 2}, inputs=[made.takes("row", "gone_7")])


def never_before(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    early = made.add("write", "Keep early", effect="write", retry={"attempts": 1, "wait": 2}, inputs=[])
    late = made.model("start")
    early["inputs"].append(made.takes("row", late["id"]))
    made._use()


def sometimes_before(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    cases = leads(made, label_decision(made)["id"], "case")
    made.flow["steps"].append(
        {
            "id": "late",
            "kind": "write",
            "name": "Keep the end",
            "effect": "write",
            "inputs": [made.takes("row", cases[0]["target"])],
        }
    )
    made.flow["links"] += [{"source": link["target"], "target": "late"} for link in cases[:2]]


def missing_flow(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.add("subflow", "Call the old desk", calls="desk-of-2019")


def flow_off(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    flows[1]["state"] = "off"
    made.add("subflow", "Call the other", calls=flows[1]["id"])


def calls_itself(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["steps"] = [{"id": "again", "kind": "subflow", "name": "Once more", "calls": made.flow["id"]}]
    made.flow["links"] = [{"source": "start", "target": "again"}]
    made.flow["connections"] = []


# -- rights -----------------------------------------------------------------------------------------------------------------


def agent_acts(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    agent = of_kind(made, "agent")[-1]["id"]
    tool = made.add("tool", "Do it", link=False, effect=rng.choice(["send", "spend", "delete"]), note="does it")
    made.flow["links"].append({"source": tool["id"], "target": agent, "role": "attach"})


def agent_acts_on_mail(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["triggers"] = [{"id": "start", "kind": rng.choice(["chat", "form", "webhook", "event"])}]
    agent_acts(made, rng, flows)


def model_recipient(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start", "Find the address to write to.")
    made.add(
        "send",
        "Write",
        effect="send",
        retry={"attempts": 1, "wait": 9},
        inputs=[made.takes("to", model["id"], "json.mail", role="recipient")],
    )


def model_amount(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    agent = of_kind(made, "agent")[-1]["id"]
    tool = made.add(
        "tool",
        "Pay back",
        link=False,
        effect="spend",
        note="pays",
        inputs=[{"name": "sum", "decided": "model", "role": "amount", "description": "how much"}],
    )
    made.flow["links"].append({"source": tool["id"], "target": agent, "role": "attach"})


def open_webhook(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["triggers"] = [{"id": "start", "kind": "webhook", "authentication": "none"}]
    made.write()


def persons_account(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.write()
    made.flow["connections"][-1]["account"] = rng.choice(
        ["signe.aas@line.example", "jon.brun@line.example", "berit.lie@line.example"]
    )


def unclear_tool(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    tool = of_kind(made, "tool")[-1]
    tool.pop("note")
    tool["inputs"] = [{"name": "x", "decided": "model", "type": "text"}]


def twin_tools(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    tool = of_kind(made, "tool")[-1]
    agent = of_kind(made, "agent")[-1]["id"]
    made.flow["steps"].append({**tool, "id": "twin", "name": "Find it again"})
    made.flow["links"].append({"source": "twin", "target": agent, "role": "attach"})


def personal_prompt(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start")
    text, refs = made.reference("start", rng.choice(["guest.iban", "person.birthDate", "form.phone", "user.email"]))
    model["model"]["prompts"].append({"text": text, "role": "user", "refs": refs})


def secret_prompt(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start")
    text, refs = made.reference("start", rng.choice(["login.password", "config.api_key", "session.token"]))
    model["model"]["prompts"].append({"text": text, "role": "user", "refs": refs})


def deletes_by_label(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    link = next(one for one in leads(made, label_decision(made)["id"], "case") if not one.get("otherwise"))
    step = next(one for one in made.flow["steps"] if one["id"] == link["target"])
    step |= {"kind": "delete", "effect": "delete", "name": "Drop it", "inputs": []}


# -- models and prompts ------------------------------------------------------------------------------------------------------


def hot_label(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    label_model(made)["model"]["temperature"] = rng.choice([0.7, 1.0])


def hot_extract(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start", temperature=0.9, task=rng.choice(["extract", "code", "label"]))
    made._use()
    assert model


def no_date(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model(
        "start",
        rng.choice(
            [
                "Put today's date under the letter.",
                "Say how many days are left until next month.",
                "Tell which {thing} leaves tomorrow.",
                "Mention the current date.",
            ]
        ),
    )
    made._use()


def small_cap(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model(
        "start",
        rng.choice(["Write a letter of about 600 words.", "Write at most 500 words on the {thing}."]),
        max_output=rng.choice([100, 200]),
    )
    made._use()


def too_long(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model("start", "Know the handbook. " + "Rule of the yard and the quay. " * 1600, name="plover-small")
    made._use()


def idle_json(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    model = made.model("start", "Give the answer as JSON.")
    made.add(
        "send", "Send it", effect="send", retry={"attempts": 1, "wait": 4}, inputs=[made.takes("body", model["id"])]
    )


def unpriced(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model("start", name="curlew-9")
    made._use()


def retired(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.model("start", name="heron-1")
    made._use()


def near_prompt(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    said = "Read what a guest of the line wrote about the trip and sum it up for the crew of"
    for town in ("Visby", "Lund"):
        made.model("start")["model"]["prompts"][0]["text"] = f"{said} {town} in three lines"
        made._use()


def other_vectors(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    of_kind(made, "retrieve")[-1]["model"]["name"] = "plover-vectors-2"


def full_overlap(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    pieces = of_kind(made, "embed")[-1]["pieces"]
    pieces["overlap"] = pieces["size"] + rng.choice([0, 50])


def endless_memory(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    of_kind(made, "memory")[-1]["inputs"] = []


# -- ownership and clock -----------------------------------------------------------------------------------------------------


def no_owner(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["owners"] = []


def one_owner(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["owners"] = made.flow["owners"][:1]


def stranger(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["owners"][0] = "Pia Unknown"


def no_description(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["description"] = ""


def on_clock(made: Maker, cron: str, zone: str) -> None:
    made.flow["triggers"] = [
        {"id": "start", "kind": "schedule", "schedule": {"cron": cron} | ({"zone": zone} if zone else {})}
    ]


def no_zone(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    on_clock(made, f"5 {rng.randint(1, 22)} * * *", "")


def changed_hour(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    on_clock(made, f"{rng.randint(1, 59)} 2 * * *", rng.choice(["Europe/Oslo", "Europe/Paris", "America/New_York"]))


def never_fires(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    on_clock(made, rng.choice(["0 9 30 2 *", "0 9 31 4 *", "15 6 31 11 *"]), "UTC")


def stale(made: Maker, rng: random.Random, flows: list[Json]) -> None:
    made.flow["changed"] = "2021-03-01"
    made.model("start")
    made._use()


PLANTS: dict[str, Plant] = {
    "misspelt_label": Plant(misspelt_label, ("label-spelled-otherwise",), "label"),
    "unknown_label": Plant(unknown_label, ("label-not-asked", "answer-without-case"), "label", False),
    "lost_answer": Plant(lost_answer, ("answer-without-case",), "label", False),
    "no_rest": Plant(no_rest, ("case-rest-missing",), "label"),
    "other_language": Plant(other_language, ("labels-in-other-words",), "label", False),
    "status_words": Plant(status_words, ("status-words-differ",), "", False),
    "no_handling": Plant(no_handling, ("failure-unhandled",)),
    "ignored_fault": Plant(ignored_fault, ("failure-ignored",)),
    "repeated_send": Plant(repeated_send, ("act-repeated",)),
    "short_timeout": Plant(short_timeout, ("timeout-too-short",)),
    "silence_approves": Plant(silence_approves, ("approval-by-silence",), "approval"),
    "endless_approval": Plant(endless_approval, ("approval-endless",), "approval"),
    "unanswered": Plant(unanswered, ("approval-unanswered",), "approval"),
    "handler_missing": Plant(handler_missing, ("handler-missing",)),
    "dead_error_route": Plant(dead_error_route, ("error-route-dead",), "guarded"),
    "uncapped_agent": Plant(uncapped_agent, ("agent-uncapped",), "agent"),
    "endless_loop": Plant(endless_loop, ("loop-endless",), "loop"),
    "endless_circle": Plant(endless_circle, ("circle-endless",)),
    "early_call": Plant(early_call, ("paid-before-filter",), "", False),
    "eager_poll": Plant(eager_poll, ("poll-too-often",), "", False),
    "same_call": Plant(same_call, ("same-call-twice",), "", False),
    "two_models": Plant(two_models, ("models-asked-alike",), "", False),
    "single_writes": Plant(single_writes, ("write-in-loop",), "loop", False),
    "same_minute": Plant(same_minute, ("same-minute",), "", False),
    "placeholder": Plant(placeholder, ("placeholder-text",), "write"),
    "empty_recipient": Plant(empty_recipient, ("empty-role",)),
    "localhost": Plant(localhost, ("local-address",)),
    "drive_path": Plant(drive_path, ("local-address",)),
    "test_recipient": Plant(test_recipient, ("test-recipient",), "", False),
    "unreached": Plant(unreached, ("step-unreached",)),
    "unmet_join": Plant(unmet_join, ("join-unmet",), "", False),
    "leading_end": Plant(leading_end, ("end-goes-on",)),
    "source_off": Plant(source_off, ("source-off",)),
    "unused_connection": Plant(unused_connection, ("connection-unused",)),
    "unused_variable": Plant(unused_variable, ("variable-unused",)),
    "default_name": Plant(default_name, ("default-name",)),
    "default_steps": Plant(default_steps, ("default-step-name",)),
    "sample_data": Plant(sample_data, ("sample-data",)),
    "missed_edit": Plant(missed_edit, ("copy-edit-missed",), "", False),
    "missing_step": Plant(missing_step, ("step-missing",)),
    "never_before": Plant(never_before, ("step-never-before",)),
    "sometimes_before": Plant(sometimes_before, ("step-sometimes-before",), "label"),
    "missing_flow": Plant(missing_flow, ("flow-missing",)),
    "flow_off": Plant(flow_off, ("flow-off",)),
    "calls_itself": Plant(calls_itself, ("flow-calls-itself",)),
    "agent_acts": Plant(agent_acts, ("agent-acts-alone", "outside-words-to-agent"), "agent"),
    "agent_acts_on_mail": Plant(agent_acts_on_mail, ("outside-words-to-agent",), "agent"),
    "model_recipient": Plant(model_recipient, ("answer-decides-target",), "", False),
    "model_amount": Plant(model_amount, ("model-decides-target",), "agent"),
    "open_webhook": Plant(open_webhook, ("webhook-open",)),
    "persons_account": Plant(persons_account, ("account-of-person",)),
    "unclear_tool": Plant(unclear_tool, ("tool-unclear",), "agent"),
    "twin_tools": Plant(twin_tools, ("tool-unclear",), "agent"),
    "personal_prompt": Plant(personal_prompt, ("personal-data-to-model",), "", False),
    "secret_prompt": Plant(secret_prompt, ("secret-to-model",), "", False),
    "deletes_by_label": Plant(deletes_by_label, ("act-by-label",), "label", False),
    "hot_label": Plant(hot_label, ("label-temperature",), "label"),
    "hot_extract": Plant(hot_extract, ("label-temperature",)),
    "no_date": Plant(no_date, ("date-not-given",), "", False),
    "small_cap": Plant(small_cap, ("answer-cap-too-small",)),
    "too_long": Plant(too_long, ("prompt-beyond-context",)),
    "idle_json": Plant(idle_json, ("json-for-nobody",), "", False),
    "unpriced": Plant(unpriced, ("model-unpriced",)),
    "retired": Plant(retired, ("model-retired",)),
    "near_prompt": Plant(near_prompt, ("prompts-nearly-equal",), "", False),
    "other_vectors": Plant(other_vectors, ("embedding-differs",), "shelf"),
    "full_overlap": Plant(full_overlap, ("pieces-overlap",), "shelf"),
    "endless_memory": Plant(endless_memory, ("memory-endless",), "agent", False),
    "no_owner": Plant(no_owner, ("owner-missing",)),
    "one_owner": Plant(one_owner, ("owner-alone",)),
    "stranger": Plant(stranger, ("owner-unknown",)),
    "no_description": Plant(no_description, ("description-missing",)),
    "no_zone": Plant(no_zone, ("zone-missing",)),
    "changed_hour": Plant(changed_hour, ("clock-change",)),
    "never_fires": Plant(never_fires, ("schedule-never-fires",)),
    "stale": Plant(stale, ("flow-stale",), "", False),
}  # fmt: skip


def check(flows: list[Json], copies: bool = False) -> list[CheckFinding]:
    """The findings of flows in the native form."""
    read = msgspec.convert(flows, list[Flow])
    copied = []
    for group in detect_clones(read, single=False) if copies else ():
        copied += [Copied(clone.b.flow, "", left_words(left)) for clone in group.copies for left in clone.left]
    return check_flows(read, CARD, facts=msgspec.structs.replace(FACTS, copied=tuple(copied)))


def found_share(plant: Plant, estates: int, seed: int) -> float:
    """The share of the planted faults of one class that is found."""
    found = 0
    for number in range(estates):
        made = clean_estate(seed + number, wanted=plant.needs)
        flows = [*[one.flow for one in made], pay_desk()]
        plant.put(made[0], random.Random(seed + number), flows)
        told = check(flows, "copy-edit-missed" in plant.codes)
        found += any(
            one.code in plant.codes and (one.flow_id == made[0].flow["id"] or plant.put is status_words) for one in told
        )
    return found / estates


def main(estates: int, seed: int) -> None:
    """Recall of every class, and what is told of estates in order."""
    told: list[CheckFinding] = []
    flows = 0
    for number in range(200):
        made = [*[one.flow for one in clean_estate(10_000 + seed + number)], pay_desk()]
        flows += len(made)
        told += check(made, copies=True)
    print(
        f"{flows} flows in order: "
        + ", ".join(f"{sum(one.severity == word for one in told)} {word}" for word in ("high", "medium", "low"))
    )
    for one in told:
        if one.severity != "low":
            print("  ", one.code, one.message)
    shares: dict[bool, list[float]] = {True: [], False: []}
    for name, plant in PLANTS.items():
        share = found_share(plant, estates, seed)
        shares[plant.sure].append(share)
        print(f"{share:5.0%}  {name}{'' if plant.sure else ' (suspected)'}")
    for sure, words in ((True, "sure"), (False, "suspected")):
        print(
            f"{len(shares[sure])} classes where a look can be {words}: recall {sum(shares[sure]) / len(shares[sure]):.3f}, least {min(shares[sure]):.2f}"
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20, int(sys.argv[2]) if len(sys.argv) > 2 else 1)
