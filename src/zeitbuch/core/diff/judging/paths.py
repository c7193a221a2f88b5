# What a change does to the ways through a flow, beside the arrows themselves: where the way of a step that is gone leads now, conditions
# that were lost on it, steps to which no way leads any more.
"""Ways that lead elsewhere, under other conditions, or nowhere."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.records import Change
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.canonical import same_link
from zeitbuch.core.model.outcomes import case_name
from zeitbuch.core.model.records import Flow, Link, Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import join_words

from .pairing import FlowPairing

_ONWARD = ("case", "next")
_CONDITIONS_TOLD = (
    "condition",
    "case",
    "outcomes",
    "link added",
    "link removed",
    "error route added",
    "error route removed",
)


def judge_paths(pair: FlowPairing) -> None:
    """What the changes of steps and links do to the ways."""
    judge_left_conditions(pair)
    _judge_exits(pair)
    _judge_reach(pair)


def case_words(link: Link, names: dict[str, str]) -> str:
    """Label, condition, outcomes, outlet and note of a link."""
    said = [
        link.label,
        replace_refs(link.condition, link.refs, names) if link.condition != link.label else "",
        ", ".join(link.after),
        "taken when no other case fits" if link.otherwise else "",
        f"outlet {link.outlet}" if link.outlet else "",
        f"note: {link.note}" if link.note else "",
    ]
    return " / ".join(text for text in said if text)


def ways_instead(pair: FlowPairing, gone: Step) -> list[Link]:
    """The links of the new version that lead on from where a step stood: the same case of the same step, led elsewhere."""
    old = [link for link in pair.old.links if link.target == gone.id and link.role != "attach"]
    stood = {(link.source, case_name(link), link.target) for link in pair.old.links}
    asked = {(link.source, case_name(link) if link.role == "case" else "") for link in old}
    return [
        link
        for link in pair.new.links
        if (link.source, case_name(link) if link.role == "case" else "") in asked
        and (link.source, case_name(link), link.target) not in stood
    ]


def lead_words(pair: FlowPairing, ways: list[Link], plain: bool = False) -> list[str]:
    """'‘Third reminder?’ (third) leads to ‘Send the letter’ now'; of ``plain`` links only where that is asked for."""
    said = []
    for link in ways:
        if link.role == "case" or plain:
            ends = [quote_name(pair.new_names.get(end, end)) for end in (link.source, link.target)]
            case = f" ({case_name(link)})" if link.role == "case" else ""
            said.append(f"{ends[0]}{case} leads to {ends[1]} now")
    return said


def _judge_exits(pair: FlowPairing) -> None:
    """With a step that is gone and had several exits, or stood on a case: where its way leads now."""
    for step in pair.removed:
        if step.kind == "approve":
            continue  # told with what nobody approves any more
        leaving = {link.target for link in pair.old.links if link.source == step.id and link.role in _ONWARD}
        ways = ways_instead(pair, step)
        said = lead_words(pair, ways, plain=True) if len(leaving) > 1 else []
        said += _dead_ends(pair, step, {(link.source, case_name(link)) for link in ways})
        if said:
            _add_remarks(pair, step, said)


def _dead_ends(pair: FlowPairing, gone: Step, led: set[tuple[str, str]]) -> list[str]:
    """Cases that led to a step that is gone, and lead nowhere now. Where the step before it has another new case, that may be the
    same under another name or condition: nothing is said."""
    cases = [link for link in pair.old.links if link.target == gone.id and link.role == "case"]
    stood = {(link.source, case_name(link), link.target) for link in pair.old.links}
    fresh = {
        link.source
        for link in pair.new.links
        if link.role == "case" and (link.source, case_name(link), link.target) not in stood
    }
    return [
        f"{quote_name(pair.new_names.get(link.source, link.source))} ({case_name(link)}) leads nowhere now"
        for link in cases
        if link.source in pair.new_steps and link.source not in fresh and (link.source, case_name(link)) not in led
    ]


def _add_remarks(pair: FlowPairing, step: Step, said: list[str]) -> None:
    for place, change in enumerate(pair.found):
        if change.type == "step removed" and change.step == step.id:
            pair.found[place] = structs.replace(change, remarks=(*change.remarks, *said))
            return


def judge_left_conditions(pair: FlowPairing) -> None:
    """A condition of a case that is another, or none, is told whatever else happened to the arrow: its step removed, moved, put
    between."""
    told = {change.step for change in pair.found if change.type in _CONDITIONS_TOLD}
    old, new = _conditions_of(pair.old), _conditions_of(pair.new)
    for (source, case), first in old.items():
        second = new.get((source, case))
        if source in told or second is None:
            continue
        before, after = ({same_link(link).condition for link in side} for side in (first, second))
        if before == after:
            continue
        where = (
            f"{quote_name(pair.new_names.get(source, source))} ({case})"
            if case
            else quote_name(pair.new_names.get(source, source))
        )
        words = [
            join_words([case_words(link, names) or "none" for link in side])
            for side, names in ((first, pair.old_names), (second, pair.new_names))
        ]
        pair.add_change("condition", where, words[0], words[1], at=(first[0].origin, second[0].origin), step=source)


def _conditions_of(flow: Flow) -> dict[tuple[str, str], list[Link]]:
    """The arrows onward by their source and label."""
    found: dict[tuple[str, str], list[Link]] = {}
    for link in flow.links:
        if link.role in _ONWARD:
            found.setdefault((link.source, link.label), []).append(link)
    return found


def _judge_reach(pair: FlowPairing) -> None:
    """Steps that stand there as before and to which no way leads any more: told with the arrow that went, which weighs more then."""
    places = [place for place, change in enumerate(pair.found) if any(edit.part == "link" for edit in change.edits)]
    if not places:
        return
    before, after = pair.ways
    lost = (set(after.unreachable) - set(before.unreachable)) & pair.old_steps.keys()
    # Approvals to which nothing leads are told as such.
    steps = [step for step in pair.new.steps if step.id in lost and step.enabled and step.kind != "approve"]
    if not steps:
        return
    place = next((place for place in places if _leads_to(pair.found[place], lost)), places[0])
    change = pair.found[place]
    remark = f"no way leads to {join_words([quote_name(step.title) for step in steps])} any more"
    weight = "risk" if any(step.effect != "none" for step in steps) else change.weight
    pair.found[place] = structs.replace(change, weight=weight, remarks=(*change.remarks, remark))


def _leads_to(change: Change, steps: set[str]) -> bool:
    return any(isinstance(edit.old, Link) and edit.old.target in steps for edit in change.edits)
