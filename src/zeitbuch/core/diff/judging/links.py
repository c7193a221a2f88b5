# Links. One act of an editor shows as several links gone and come: a step put between two others, taken out, moved, moved
# into another scope. Such links are told with the step; what is left is rewired, added or removed.
"""Changes of links and of the order of steps."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.diff.judging.control_flow import Arrow
from zeitbuch.core.diff.records import Change
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.canonical import same_link
from zeitbuch.core.model.outcomes import case_name, deciding_steps, takes_faults
from zeitbuch.core.model.records import Flow, Link
from zeitbuch.core.model.words import join_words

from .control_flow import Course, arrows_of, find_moved_steps
from .pairing import FlowPairing, Places
from .paths import case_words, judge_paths

_ONWARD = ("case", "next")
MOVED = 4  # differing links that a move must explain; one rewired link explains two


class LinkJudge:
    """The links of one pair of flows: first what stays, then what each step explains, then the rest."""

    def __init__(self, pair: FlowPairing) -> None:
        self.pair = pair
        self.gone, self.come = self._differing_links()
        self.old_course, self.new_course = Course(arrows_of(pair.old.links)), Course(arrows_of(pair.new.links))

    def _differing_links(self) -> tuple[list[Link], list[Link]]:
        # What a trigger that came or went leads to is told with it.
        ends = [{trigger.id for trigger in flow.triggers} for flow in (self.pair.old, self.pair.new)]
        raw = [link for link in self.pair.new.links if link.source not in ends[0] ^ ends[1]]
        gone, come = [], [same_link(link) for link in raw]
        for link in self.pair.old.links:
            if link.source in ends[0] ^ ends[1]:
                continue
            same = same_link(link)
            if same in come:
                place = come.index(same)
                come.pop(place)
                raw.pop(place)
            else:
                gone.append(link)
        return gone, raw

    def judge(self) -> None:
        self._judge_outcomes()
        self._judge_cases()
        self._with_steps()
        for step in self._judge_moved_steps():
            self._judge_move(step)
        self._judge_rewired()
        for link in self.gone:
            kind = "error route removed" if takes_faults(link) else "link removed"
            words = case_words(link, self.pair.old_names) or "link"
            where = self._arrow_words(link, self.pair.old_names)
            self.pair.add_change(
                kind, where, words, "", (self._link_edit(link, False),), (link.origin, None), step=link.source
            )
        for link in self.come:
            kind = "error route added" if takes_faults(link) else "link added"
            words = case_words(link, self.pair.new_names) or "link"
            where = self._arrow_words(link, self.pair.new_names)
            self.pair.add_change(
                kind, where, "", words, (self._link_edit(link, True),), (None, link.origin), step=link.source
            )

    def _link_edit(self, link: Link, added: bool) -> Edit:
        return Edit("add", "link", "", "", None, link) if added else Edit("remove", "link", "", "", link)

    def _arrow_words(self, link: Link, names: dict[str, str]) -> str:
        both = {**self.pair.old_names, **self.pair.new_names}
        ends = [quote_name(names.get(name, both.get(name, name))) for name in (link.source, link.target)]
        return f"{ends[0]} to {ends[1]}"

    def _judge_outcomes(self) -> None:
        """Steps that had outcomes and now go all ways at once, or the other way round: one change, whatever links show it."""
        pair = self.pair
        old, new = deciding_steps(pair.old), deciding_steps(pair.new)
        differing = old ^ new
        for step_id in [step.id for step in pair.new.steps if step.id in differing and step.id in pair.old_steps]:
            edits: list[Edit] = []
            links = [link for link in self.gone if link.source == step_id and link.role in _ONWARD]
            first: Link | None = None
            for link in links:
                other = next(
                    (k for k in self.come if k.source == step_id and k.target == link.target and k.role in _ONWARD),
                    None,
                )
                if other is not None:
                    self.gone.remove(link)
                    self.come.remove(other)
                    edits += [self._link_edit(link, False), self._link_edit(other, True)]
                    first = first or other
            if first is None:
                continue
            words = [
                _outcome_words(flow, step_id, step_id in decides, names)
                for flow, decides, names in (
                    (pair.old, old, pair.old_names), (pair.new, new, pair.new_names),
                )
            ]  # fmt: skip
            where = quote_name(pair.new_names.get(step_id, step_id))
            pair.add_change(
                "outcomes", where, words[0], words[1], tuple(edits), (links[0].origin, first.origin), step=step_id
            )

    def _judge_cases(self) -> None:
        """The same arrow under another label, condition or outcome."""
        for link in list(self.gone):
            other = next(
                (
                    k
                    for k in self.come
                    if (k.source, k.target, k.role) == (link.source, link.target, link.role)
                ),
                None,
            )  # fmt: skip
            if other is None:
                continue
            self.gone.remove(link)
            self.come.remove(other)
            kind = (
                "approval outcome"
                if self._is_approval(link.source)
                else "condition"
                if structs.replace(link, condition="", refs=(), origin=None)
                == structs.replace(other, condition="", refs=(), origin=None)
                else "case"
            )
            text, second_text = case_words(link, self.pair.old_names), case_words(other, self.pair.new_names)
            self.pair.add_change(
                kind,
                self._arrow_words(other, self.pair.new_names),
                text or "none",
                second_text or "none",
                (self._link_edit(link, False), self._link_edit(other, True)),
                (link.origin, other.origin),
                step=other.source,
            )

    def _is_approval(self, step_id: str) -> bool:
        step = self.pair.new_steps.get(step_id)
        return step is not None and step.kind == "approve"

    # -- what steps explain ---------------------------------------------------------------------------------------

    def _with_steps(self) -> None:
        """Links that only follow a step that came or went are told with it."""
        added, removed = {step.id for step in self.pair.added}, {step.id for step in self.pair.removed}
        bridges = self.new_course.bridged_pairs(added)
        stood = self.old_course.bridged_pairs(removed)
        for links, own, through, is_new in (
            (self.come, added, stood, True),
            (self.gone, removed, bridges, False),
        ):
            for link in list(links):
                owner = link.target if link.target in own else link.source if link.source in own else None
                if owner is None:
                    owner = through.get((link.source, link.target))
                if owner is not None:
                    self._give_edit(
                        owner, self._link_edit(link, is_new), ("step added", "step removed", "approval removed")
                    )
                    links.remove(link)

    def _give_edit(self, owner: str, edit: Edit, kinds: tuple[str, ...]) -> None:
        """The edit becomes part of the change of that step."""
        found = self.pair.found
        place = next(index for index, change in enumerate(found) if change.step == owner and change.type in kinds)
        change: Change = found[place]
        found[place] = structs.replace(change, edits=(*change.edits, edit))

    def _judge_moved_steps(self) -> list[str]:
        """Steps that changed their scope, then the fewest whose moving explains most of the links that differ."""
        pair = self.pair
        added = {step.id for step in pair.added}
        order = {step.id: index for index, step in enumerate(pair.new.steps) if step.id not in added}
        scoped = [text for text in order if pair.old_steps[text].scope != pair.new_steps[text].scope]
        old, new = Course(self.old_course.all_arrows()), Course(self.new_course.all_arrows())
        for course, out in ((old, [step.id for step in pair.removed]), (new, [step.id for step in pair.added])):
            for step in [*out, *scoped]:
                course.take_out(step)
        return [*scoped, *find_moved_steps(old, new, order, MOVED)]

    def _judge_move(self, step_id: str) -> None:
        pair = self.pair
        first, second = pair.old_steps[step_id], pair.new_steps[step_id]
        old_bridge = self.old_course.pairs_through(step_id, {step.id for step in pair.removed})
        new_bridge = self.new_course.pairs_through(step_id, {step.id for step in pair.added})
        edits = self._take_links_of(step_id, new_bridge, old_bridge)
        entry: Places = (first.origin, second.origin)
        if first.scope != second.scope:
            edits.insert(0, Edit("set", "step", step_id, "scope", first.scope, second.scope))
            scopes = [
                mapping.get(step.scope or "", "no scope")
                for step, mapping in ((first, pair.old_names), (second, pair.new_names))
            ]
            pair.add_change("scope", quote_name(second.title), scopes[0], scopes[1], tuple(edits), entry, step=step_id)
        elif edits:
            words = [
                self._spot_words(self.old_course, step_id, True),
                self._spot_words(self.new_course, step_id, False),
            ]
            pair.add_change(
                "step moved", quote_name(second.title), words[0], words[1], tuple(edits), entry, step=step_id
            )

    def _take_links_of(self, step_id: str, new_bridge: set[Arrow], old_bridge: set[Arrow]) -> list[Edit]:
        """Edits for the links that moving the step explains; takes them out of those to be judged."""
        edits: list[Edit] = []
        for links, bridge, is_new in ((self.gone, new_bridge, False), (self.come, old_bridge, True)):
            for link in list(links):
                if step_id in (link.source, link.target) or (link.source, link.target) in bridge:
                    edits.append(self._link_edit(link, is_new))
                    links.remove(link)
        return edits

    def _spot_words(self, course: Course, step: str, old: bool) -> str:
        names = {**self.pair.new_names, **self.pair.old_names} if old else self.pair.new_names
        before, after = course.neighbours_of(step)
        order = list(names)
        parts = []
        for word, ends in (("after", before), ("before", after)):
            if ends:
                shown = [
                    quote_name(names.get(name, name))
                    for name in sorted(ends, key=lambda e: order.index(e) if e in order else 0)
                ]
                parts.append(f"{word} {join_words(shown)}")
        return ", ".join(parts) or "alone"

    # -- the rest -------------------------------------------------------------------------------------------------

    def _judge_rewired(self) -> None:
        """One end of a link stays, the other goes elsewhere."""
        pair = self.pair
        both = {**pair.old_names, **pair.new_names}
        for same_source in (True, False):
            for link in list(self.gone):
                fits = [
                    k
                    for k in self.come
                    if k.role == link.role
                    and (k.label, k.condition) == (link.label, link.condition)
                    and (k.source == link.source if same_source else k.target == link.target)
                ]
                if not fits:
                    continue
                other, moving, where = self._tell_rewired(fits, link, both, same_source)
                pair.add_change(
                    "approval outcome" if same_source and self._is_approval(link.source) else "link rewired",
                    where,
                    quote_name(both.get(moving[0], moving[0])),
                    quote_name(both.get(moving[1], moving[1])),
                    (self._link_edit(link, False), self._link_edit(other, True)),
                    (link.origin, other.origin),
                    step=other.source,
                )

    def _tell_rewired(
        self, fits: list[Link], link: Link, both: dict[str, str], same_source: bool
    ) -> tuple[Link, list[str], str]:
        other = fits[0]
        self.gone.remove(link)
        self.come.remove(other)
        fixed = both.get(link.source if same_source else link.target, "")
        case = f" ({link.label or link.role})" if link.label or link.role in ("error", "attach") else ""
        moving = [(k.target if same_source else k.source) for k in (link, other)]
        where = f"from {quote_name(fixed)}{case}" if same_source else f"to {quote_name(fixed)}{case}"
        return other, moving, where


def _outcome_words(flow: Flow, step_id: str, decides: bool, names: dict[str, str]) -> str:
    """'one of approved, refused', 'on to ‘Write yes’ and ‘Write no’ at once'."""
    onward = [link for link in flow.links if link.source == step_id and link.role in _ONWARD]
    cases = list(dict.fromkeys(case_name(link) for link in onward if link.role == "case"))
    if decides and cases:
        step = flow.step(step_id)
        many = "any" if step is not None and step.inclusive else "one"
        return f"{many} of {', '.join(cases)}" if len(cases) > 1 else f"{cases[0]} or nothing"
    goes = join_words([quote_name(names.get(link.target, link.target)) for link in onward])
    return f"on to {goes} at once" if len(onward) > 1 else f"always on to {goes}" if onward else "the end"


def judge_links(pair: FlowPairing) -> None:
    """All changes of links and order."""
    LinkJudge(pair).judge()
    judge_paths(pair)
