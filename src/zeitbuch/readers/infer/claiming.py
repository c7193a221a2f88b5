# What a proposal claims of each part, with the evidence for it by name. How much each piece weighs was fitted, see claims.py.
"""The claims of a proposal and their evidence."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.flow_rules import Items
from zeitbuch.readers.dialects.paths import as_text

from . import fields, surroundings
from .claims import ANSWERED, DOUBTED
from .clocks import TIMED
from .evidence import Evidence
from .fields import Column, Delimiters
from .flow_states import tells_when_on
from .helper_lists import HelperList
from .identity import is_id_word
from .kinds import Verdict
from .named_values import NamedValues
from .own_starts import is_plain, own_fields
from .state_words import FLAGS, TRUE, says_state, state_of_word
from .survey import STAR, Path, dotted_path, json_path, values_at

_MANY, _NEARLY_EACH = 12, 0.9  # steps, and the share of them that do something else each, from which nobody believes it
_LEAST_FLOWS = 2  # more flows than this show what differs from one to the next


def claim_steps(e: Evidence) -> None:
    """Where the steps are, which field says what they do, and which names them."""
    found, ident = e.found, e.identity
    where = json_path((*found.flow_at, *found.steps_at))
    inside = sum(sight.owner is not None for sample in found.samples for sight in sample.steps)
    more = f", {inside} of them inside other steps" if inside else ""
    evidence = {
        "score": found.score / 10,
        "linked": e.joins.way != "order" or e.holds_steps,
        "known": sum(verdict.hint != "other" for verdict in e.verdicts.values()) / max(1, len(e.verdicts)),
        "several": len(found.samples) > _LEAST_FLOWS,
        "many": e.total / 40,
    }
    e.add_claim(
        "steps",
        f"{count_words(e.total, 'step')} in {count_words(len(found.samples), 'flow')} at {where}{more}",
        evidence,
    )
    told = f"'{dotted_path(found.operation)}' says what a step does: {len(e.verdicts)} different"
    if evidence["several"] and e.total >= _MANY and len(e.verdicts) >= _NEARLY_EACH * e.total:
        told, evidence = f"{told}, nearly each step another: it may be no more than a name", {DOUBTED: 1.0}
    e.add_claim("operation", told, evidence)
    told = f"'{dotted_path(ident.id)}' names a step; {ident.referred:.0%} of its values occur elsewhere in the flow"
    if not ident.id and not ident.name:
        some = f"'{dotted_path(e.some_named)}' names some steps, the others go by their place in the flow"
        e.add_claim("id", some if e.some_named else "no field names a step: each goes by its place in the flow", {})
        return
    worded = bool(ident.id) and is_id_word(ident.id)
    e.add_claim("id", told, {"referred": ident.referred, "word": worded, "nested": e.holds_steps})


def claim_helpers(e: Evidence, helpers: HelperList) -> None:
    """A list beside the steps whose records steps name as their tools."""
    at = json_path((*e.found.flow_at, *helpers.at, STAR))
    e.add_claim(
        "helpers",
        f"what stands at {at} is named by steps as their tools: steps too, told apart by '{dotted_path(helpers.operation)}'",
        {},
    )


def claim_links(e: Evidence) -> None:
    """How the steps hang together."""
    joins = e.joins
    words = {
        "records": "separate records from '{s}' to '{t}' at {a}",
        "adjacency": "an object from step to targets at {a}",
        "pointers": "pointers to the next steps at '{p}' in each step",
        "predecessors": "names of the steps before at '{p}' in each step",
        "order": "nothing links the steps: they are taken to run in the order in which they stand. Check this",
    }[joins.way]
    if e.numbering:
        e.add_claim("links", f"steps run in the order of their numbers at '{dotted_path(e.numbering)}'", {})
        return
    if joins.way == "order" and e.holds_steps:
        words = "steps stand inside steps; those of one list run in the order in which they stand"
    elif e.topics is not None:
        words = "topics: what steps give out at '{g}' others take at '{h}', {w} ways. Check this"
    gives, takes, ways = e.topics[:3] if e.topics is not None else ((), (), 0)
    told = words.format(
        s=dotted_path(joins.source), t=dotted_path(joins.target), a=json_path(joins.at), p=dotted_path(joins.at),
        g=dotted_path(gives), h=dotted_path(takes), w=ways,
    )  # fmt: skip
    evidence = {
        "ends": joins.sure if joins.way != "order" else 0,
        "direction": joins.direction,
        "covered": len(joins.pairs) / max(1, e.total),
        "order": joins.way == "order" and not e.holds_steps,
        "nested": e.holds_steps,
        "pointing": joins.way in ("pointers", "predecessors"),
    }
    e.add_claim("links", told + (f": {len(joins.pairs)} links" if joins.pairs else ""), evidence)


def claim_variables(e: Evidence, held: NamedValues) -> Items:
    """The plain values of a flow that steps name in placeholders."""
    at = json_path((*held.at, STAR))
    said = (f" behind '{held.opening}'" if held.opening else "") + (
        ", for all flows of a document" if held.shared else ""
    )
    e.add_claim("variables", f"the values at {at}, which steps name{said}", {})
    if held.fields is None:
        return Items(at=at, name="@key", value=".", shared=held.shared)
    name, value, about = [dotted_path((key,)) if key else "" for key in held.fields]
    return Items(at=at, name=name, value=value, description=about, shared=held.shared)


def claim_model(e: Evidence, models: int, columns: dict[Path, Column], model: list[Path], prompts: list[Path]) -> None:
    """Where the steps that use a model name it, and where their instructions stand."""
    if not models:
        return
    first = columns.get(model[0]) if model else None
    shown = fields.first_of_lists(model, columns)
    others = ", the first of several" if shown != model else ""
    e.add_claim(
        "model",
        f"models at {path_list(shown)}{others}" if model else "no field that looks like a model's name",
        {
            "found": bool(model),
            "word": bool(model) and fields.is_model_key(model[0]),
            "covered": first.steps / models if first is not None else 0,
            "single": len(model) == 1,
        },
    )
    covered = [columns[path].steps / models for path in prompts if path in columns]
    e.add_claim(
        "prompts",
        f"instruction texts at {path_list(prompts)}" if prompts else "no instruction texts found",
        {
            "found": bool(prompts),
            "word": sum(map(fields.is_prompt_key, prompts)) / max(1, len(prompts)),
            "covered": min(covered, default=0),
            "many": len(prompts) > 2,
        },
    )


def claim_flow(e: Evidence, given: dict[str, Any]) -> None:
    """Which fields are the name and the state of a flow."""
    flows = max(1, len(e.found.samples))
    if "name" in given:
        path = given["name"]
        values = [as_text(value) for sample in e.found.samples for value in values_at(sample.raw, path)]
        evidence = {
            "word": surroundings.is_word_for("name", path),
            "blanks": sum(" " in value for value in values) / max(1, len(values)),
            "apart": len(set(values)) / flows,
            "several": flows > _LEAST_FLOWS,
        }
        e.add_claim("flow name", f"'{dotted_path(path)}'", evidence)
    if "state" in given:
        _claim_state(e, given["state"], flows)


def _claim_state(e: Evidence, path: Path, flows: int) -> None:
    values = [as_text(value) for sample in e.found.samples for value in values_at(sample.raw, path)]
    said = [state_of_word(value) for value in values]
    evidence = {
        "word": surroundings.is_word_for("state", path),
        "known": sum(map(bool, said)) / max(1, len(said)),
        "both": len(set(said)) > 1,
        # Words of no language known say nothing by standing everywhere.
        "everywhere": len(values) / flows if any(said) else 0.0,
    }
    on = sum(value in TRUE for value in values)
    if set(values) <= FLAGS and on < len(values) / 2 and not tells_when_on(path):
        evidence[DOUBTED] = 1.0  # most flows are on: true may mean that they are off, or something else
    e.add_claim("flow state", f"'{dotted_path(path)}'", evidence)


def claim_switch(e: Evidence, given: dict[str, Any], columns: dict[Path, Column], total: int) -> None:
    """Which field says that a step is switched off."""
    field = next((name for name in ("enabled", "disabled") if name in given), "")
    if not field:
        return
    column = columns[given[field]]
    spelled = [value for value in column.values if type(value) is str]
    states = [state_of_word(value) for value in spelled]
    flags = sum(value == (field == "disabled") for value in column.values if type(value) in (bool, int))
    off = (flags + states.count("off")) / max(1, len(column.values))
    evidence = {
        "word": e.switch_by_word or ({*states} == {"on", "off"} and all(map(says_state, spelled))),
        "everywhere": column.steps / max(1, total),
        "several": len(e.operations_by_path.get(given[field], ())) > 2,
        "some off": 0 < off < 0.5,
    }
    e.add_claim("switched off", f"'{dotted_path(given[field])}' ({field})", evidence)


def claim_placeholders(e: Evidence, found: Delimiters, share: float) -> None:
    """How a value is taken from elsewhere."""
    evidence = {"resolved": share, "many": found.seen / 20, "brackets": bool(set(found.open) & set("{[(<"))}
    e.add_claim("placeholders", f"{found.open} … {found.close}: {found.seen} seen, {share:.0%} name a step", evidence)


def claim_triggers(e: Evidence) -> None:
    """Where the triggers are."""
    flows = max(1, len(e.found.samples))
    several = flows > _LEAST_FLOWS
    if e.starts is not None:
        begun = len({number for number, _ in e.starts.records}) / flows
        evidence = {"apart": 1.0, "flows": begun, "score": e.starts.score / 10, "several": several}
        at = path_list(own_fields(e.starts)) if not e.starts.at else json_path(e.starts.at)
        if is_plain(e.starts):  # the estates that certainty was measured on have no such fields
            e.add_claim("triggers", f"said by flows themselves at {at}", {})
        else:
            e.add_claim("triggers", f"apart from the steps at {at}", evidence)
        return
    triggers = [verdict for verdict in e.verdicts.values() if verdict.trigger]
    begun = sum(any(e.kind_of(sight.raw).startswith("on:") for sight in sample.steps) for sample in e.found.samples)
    evidence = {
        "found": bool(triggers),
        "flows": begun / flows,
        "words": sum(not verdict.by_place for verdict in triggers) / max(1, len(triggers)),
        "several": several,
    }
    told = f"among the steps, {count_words(len(triggers), 'operation')}" if triggers else "nothing looks like a trigger"
    e.add_claim("triggers", told, evidence)


def claim_kind(e: Evidence, operation: str, verdict: Verdict) -> None:
    """What the steps of an operation do."""
    e.add_claim("kind", verdict.hint, verdict.evidence, operation)


def claim_trigger_kind(e: Evidence, operation: str, kind: str, words: float, clock: dict[str, Any], told: str) -> None:
    """What sets a flow off, and when. ``words`` is the score of the operation's words for the kind, ``told`` the kind that the values
    tell."""
    evidence = {
        "words": words / 5,
        "cron": kind == "schedule" and bool(clock.keys() & TIMED) and told in ("", kind),
        "values": told == kind,
        "against": bool(told) and told != kind,
        "silent": not words and not told,
    }
    if operation in e.told:
        evidence = {ANSWERED: 1.0}
    e.add_claim("trigger kind", kind, evidence, operation)
    if kind not in ("schedule", "polling") or operation in {*e.unclear_intervals, *e.unclear_days}:
        return  # nothing is claimed of an interval or of weekdays that are asked about
    form = next((name for name in ("cron", "time", "hour", "unit", "every") if name in clock), "")
    shown = ", ".join(
        f"{key} '{dotted_path(value) if isinstance(value, tuple) else value}'" for key, value in clock.items()
    )
    evidence = {
        "cron": form == "cron",
        "days": form in ("time", "hour"),
        "unit": form in ("unit", "every"),
        "none": not form,
    }
    e.add_claim("schedule", shown or "no field that looks like a clock", evidence, operation)


def path_list(paths: list[Path]) -> str:
    """Paths, each in quotes."""
    return ", ".join(f"'{dotted_path(pair)}'" for pair in paths)
