# What the ways out of a step carry in every sampled run.
"""Ways of sampled passes."""

from __future__ import annotations

import numpy as np

from .plan import Node, Way, first_ways
from .random_draws import Draws, Ints
from .sample_records import Leaving, Load, add_counts
from .sampled_cases import CaseDraws
from .sampled_steps import StepDraws


class WayDraws:
    """Puts on the ways out of steps what they carry, for all runs of a sample at once."""

    def __init__(self, draws: Draws, steps: StepDraws, itemised: bool) -> None:
        self.draws, self.steps, self.itemised = draws, steps, itemised
        self.cases = CaseDraws(draws, draws.runs)

    def leave_node(self, node: Node, left: Leaving, edges: list[Load | None]) -> tuple[Load, Load]:
        """Puts on the ways out what they carry; returns what goes on, and what of it succeeded."""
        keeps = any(way.plain and way.failure for way in node.ways)
        whole = self.steps.going_on(node, left, keeps)
        by_item = node.step.per_item and self.itemised and node.enabled
        if by_item:
            dealt = self._deal_items(node, left, keeps) if node.decides else {}
            for way in node.ways:
                edges[way.edge] = self._way_of_items(node, left, way, whole, dealt)
        else:
            cases = self._share_cases(node, whole) if node.decides else {}
            for way in node.ways:
                edges[way.edge] = self._way_of_passes(node, left, way, cases, whole)
        return whole, left.load

    # -- steps that run once for a pass ------------------------------------------------------------------------

    def _way_of_passes(self, node: Node, left: Leaving, way: Way, cases: dict[int, Load], whole: Load) -> Load | None:
        load: Load | None = None
        if way.success and (node.enabled or way.plain):
            load = cases[way.edge] if way.share is not None else whole if way.plain else left.load
            if way.share is not None and whole is not left.load and not way.plain:
                some = self.draws.draw_some(load.passes, left.load.passes / np.maximum(whole.passes, 1), load.single)
                load = self.steps.kept_load(load, some) if self.itemised else Load(some, some, load.single)
        for more in _failing(way, left):
            load = self._add_passes(left, load, more, self.steps.items_with(node, left.came, more))
        return self._with_skipped(left, way, load)

    def _share_cases(self, node: Node, load: Load) -> dict[int, Load]:
        ways = first_ways(node)
        dealt = self.cases.deal_cases(ways, load.passes, load.single, node.step.inclusive)
        dealt_to: dict[int, Load] = {}
        for way, some in zip(ways, dealt, strict=True):
            plain = load.items is load.passes or not self.itemised
            dealt_to[way.case] = Load(some, some, load.single) if plain else self.steps.kept_load(load, some)
        return {way.edge: dealt_to[way.case] for way in node.ways if way.share is not None}

    def _with_skipped(self, left: Leaving, way: Way, load: Load | None) -> Load | None:
        if not way.skip or left.skipped is None:
            return load
        return self._add_passes(left, load, left.skipped, left.skipped)

    @staticmethod
    def _add_passes(left: Leaving, load: Load | None, passes: Ints, items: Ints) -> Load:
        """With passes of their own: items that fail, or what is skipped, of which several may have had their turn."""
        if load is not None:
            passes, items = load.passes + passes, load.items + items
        return Load(passes, items, left.load.single and int(passes.max()) < 2)

    # -- steps that run once for each item ---------------------------------------------------------------------

    def _way_of_items(self, node: Node, left: Leaving, way: Way, whole: Load, dealt: dict[int, Ints]) -> Load | None:
        """A pass takes a way with those of its items that do; one that fails, and takes a way for failures only, is a pass of its own."""
        assert left.there is not None
        failing = _failing(way, left)
        more = sum(failing[1:], failing[0]) if failing else None
        if not way.success:
            return self._with_skipped(left, way, None if more is None else self._add_passes(left, None, more, more))
        if way.share is None:
            load = whole if way.plain else left.load
            if more is not None:
                load = self.steps.with_items(node, left, load.items, more)
            return self._with_skipped(left, way, load)
        going = dealt[way.edge]
        more = np.zeros_like(going) if more is None else more
        made = going
        if node.inner is not None or node.step.yields == "many":
            load, before = left.load, left.there.items
            gone = add_counts(left.failed, left.late)
            if way.plain and whole is not load and gone is not None:
                load, before = whole, before + gone
            made = self.draws.round_randomly(load.items * (going / np.maximum(before, 1)))
        return self._with_skipped(left, way, self.steps.with_items(node, left, made, more, going))

    def _deal_items(self, node: Node, left: Leaving, keeps: bool) -> dict[int, Ints]:
        """The items that take each case: of those that succeed, and of those that fail and go on as if nothing had happened."""
        assert left.there is not None
        going, gone = left.there.items, add_counts(left.failed, left.late)
        whole = going + gone if keeps and gone is not None else going
        ways = first_ways(node)
        dealt = self.cases.deal_cases(ways, whole, False, node.step.inclusive)
        dealt_to = dict(zip([way.case for way in ways], dealt, strict=True))
        found = {way.edge: dealt_to[way.case] for way in node.ways if way.share is not None}
        if whole is not going:
            thin = {way.edge for way in node.ways if not way.plain}
            share = going / np.maximum(whole, 1)
            found = {e: self.draws.draw_some(n, share, False) if e in thin else n for e, n in found.items()}
        return found


def _failing(way: Way, left: Leaving) -> list[Ints]:
    """What a way takes of what has failed or run out of time, other than as if nothing had happened."""
    wanted = ((way.failure, left.failed), (way.timeout, left.late))
    return [more for takes, more in wanted if takes and more is not None and not way.plain]
