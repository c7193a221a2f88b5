# What the functions of the library give back: typed results that show themselves in notebooks, and become data frames.
"""Results of the library."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec import Struct

from .core.estimate.records import EstateEstimate
from .core.model.extras import telling_missing
from .core.model.problems import Problem
from .core.model.records import Estate, Flow
from .core.model.sheet import Sheet
from .core.model.words import count_words
from .core.report import inventory as inventory_rows
from .core.report.blocks import Page
from .core.report.estimate_tables import flows_sheet, steps_sheet

if TYPE_CHECKING:
    import pandas

    from .core.actuals.records import Reconciled
    from .core.calibrate.records import Calibrated
    from .core.diff.records import EstateChanges
    from .core.estimate.comparison import Comparison
    from .core.report.check_table import ChecksResult
    from .core.report.review_states import ReviewStatus


_NUMBERS = ("count", "number", "money", "percent")


def to_data_frame(sheet: Sheet) -> pandas.DataFrame:
    """A sheet with a column for each of its columns. Amounts are numbers, and what is unknown is missing; where an amount is known in part only
    ("1.20 ?"), it is missing too, and a column of that name with ``_words`` behind it has the words."""
    with telling_missing():
        import pandas

    found: dict[str, Any] = {}
    for column, *values in zip(sheet.columns, *sheet.rows, strict=True):
        if column.kind not in _NUMBERS:
            found[column.key] = values
            continue
        numbers = [_as_number(value) for value in values]
        found[column.key] = pandas.to_numeric(pandas.Series(numbers, dtype=None if numbers else float))
        words = [
            value if isinstance(value, str) and number is None else ""
            for value, number in zip(values, numbers, strict=True)
        ]
        if any(words):
            found[f"{column.key}_words"] = words
    return pandas.DataFrame(found)


def _as_number(value: Any) -> float | int | None:
    if value is None or isinstance(value, int):
        return value
    try:
        return float(value)
    except ValueError:
        return None


class Shown(Struct, frozen=True):
    """A result with a table: a line where it is printed, the table in a notebook."""

    def _sheet(self) -> Sheet:
        raise NotImplementedError

    def _words(self) -> str:
        return count_words(len(self._sheet().rows), "row")

    def __repr__(self) -> str:
        return f"{type(self).__name__}({self._words()})"

    def _repr_html_(self) -> str:
        from .writers.table.html_table import to_html_table

        return to_html_table(self._sheet())


class Inventory(Shown, frozen=True):
    """Rows and totals of an inventory."""

    rows: tuple[inventory_rows.Row, ...]
    totals: inventory_rows.Totals

    def _sheet(self) -> Sheet:
        return inventory_rows.inventory_sheet(list(self.rows), full=False)

    def _words(self) -> str:
        return count_words(len(self.rows), "flow")

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow (needs pandas: ``pip install zeitbuch[frames]``)."""
        return to_data_frame(inventory_rows.inventory_sheet(list(self.rows), full=True))


class Estimate(Shown, frozen=True):
    """An estimate; ``result`` holds flows, steps and totals."""

    result: EstateEstimate

    def _sheet(self) -> Sheet:
        return flows_sheet(self.result)

    def _words(self) -> str:
        return f"{count_words(len(self.result.flows), 'flow')}, {self.result.month}"

    def to_frame(self, steps: bool = False) -> pandas.DataFrame:
        """One row a flow or a step."""
        return to_data_frame(steps_sheet(self.result, True) if steps else flows_sheet(self.result))


class Compared(Shown, frozen=True):
    """A comparison of scenarios."""

    result: Comparison

    def _sheet(self) -> Sheet:
        from .core.report.comparison_tables import comparison_sheet

        return comparison_sheet(self.result, True)

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow, a pair of columns a scenario."""
        frame = to_data_frame(self._sheet())
        for place in range(1, len(self.result.options)):
            frame[f"difference_{place}"] = frame[f"scenario_{place}"] - frame["base"]
        return frame


class Diff(Shown, frozen=True):
    """A comparison of two versions; ``result`` holds the changes, with figures when a rate card was named."""

    result: EstateChanges
    currency: str = ""

    @property
    def unchanged(self) -> int:
        """How many flows are as they were."""
        return self.result.unchanged

    def _sheet(self) -> Sheet:
        from .core.report.change_tables import summary_sheet

        return summary_sheet(self.result, self.currency)

    def to_frame(self, changes: bool = False) -> pandas.DataFrame:
        """One row a flow, or one a change."""
        from .core.report.change_tables import changes_sheet

        return to_data_frame(changes_sheet(self.result) if changes else self._sheet())


class Checks(Shown, frozen=True):
    """What is wrong in an estate; ``result`` holds the findings."""

    result: ChecksResult

    def _sheet(self) -> Sheet:
        from .core.report.check_table import checks_sheet

        return checks_sheet(self.result, full=False)

    def _words(self) -> str:
        return count_words(len(self.result.findings), "finding")

    def to_frame(self) -> pandas.DataFrame:
        """One row a finding."""
        from .core.report.check_table import checks_sheet

        return to_data_frame(checks_sheet(self.result, True, True))


class Reviews(Shown, frozen=True):
    """Who has signed what, and whether it still holds; ``result`` has it by flow and role."""

    result: ReviewStatus

    def _sheet(self) -> Sheet:
        from .core.report.review_states import review_sheet

        return review_sheet(self.result)

    def to_frame(self) -> pandas.DataFrame:
        """One row a role of a flow."""
        return to_data_frame(self._sheet())


class Reconciliation(Shown, frozen=True):
    """An estimate held against usage logs; ``result`` holds both sides and what explains the difference."""

    result: Reconciled

    def _sheet(self) -> Sheet:
        from .core.report.reconcile_tables import gaps_sheet

        return gaps_sheet(self.result, True)

    def to_frame(self, explanations: bool = False) -> pandas.DataFrame:
        """One row of both sides, or one an explanation."""
        from .core.report.reconcile_tables import explanations_sheet

        return to_data_frame(explanations_sheet(self.result, True) if explanations else self._sheet())


class Calibration(Shown, frozen=True):
    """What usage logs tell of assumptions; ``result`` holds the numbers, seasons and remarks, ``toml`` is the file of assumptions."""

    result: Calibrated

    @property
    def toml(self) -> str:
        """The file of assumptions that ``calibrate -o`` writes."""
        from .writers.exchange.measured_file import measured_text

        return measured_text(self.result)

    def _sheet(self) -> Sheet:
        from .core.report.calibrate_tables import measured_sheet

        return measured_sheet(self.result, True)

    def to_frame(self) -> pandas.DataFrame:
        """One row a number."""
        return to_data_frame(self._sheet())


class History(Shown, frozen=True):
    """Snapshots of a book, or versions of a flow."""

    sheet: Sheet

    def _sheet(self) -> Sheet:
        return self.sheet

    def to_frame(self) -> pandas.DataFrame:
        """One row a snapshot or version."""
        return to_data_frame(self.sheet)


_SHORT = 300  # letters of a text that is printed whole


class Text(str):
    """A text of a map, a document or an export. A drawing (SVG) is shown as one in a notebook."""

    __slots__ = ()

    def __repr__(self) -> str:
        return super().__repr__() if len(self) <= _SHORT else f"Text({count_words(len(self), 'letter')})"

    def _repr_html_(self) -> str | None:
        return str(self) if self.startswith(("<svg", "<?xml")) and "<svg" in self[:400] else None


class Picture(bytes):
    """A picture (PNG), shown as one in a notebook."""

    __slots__ = ()

    def __repr__(self) -> str:
        return f"Picture({count_words(len(self), 'byte')})"

    def _repr_png_(self) -> bytes:
        return bytes(self)


class Conversion(Struct, frozen=True):
    """Flows in another form: the ``text``, and in ``problems`` what could not be said in it."""

    text: Text
    problems: tuple[Problem, ...] = ()


def _flow_html(flow: Flow) -> str:
    from .app.map import MapRequest, draw_flow
    from .writers.outputs.rendering import render

    return str(render("map", "svg", draw_flow(flow, MapRequest())))


def _estate_html(estate: Estate) -> str:
    rows = inventory_rows.rows_of_flows(estate.flows)
    return Inventory(tuple(rows), inventory_rows.inventory_totals(rows))._repr_html_()


def _page_markdown(page: Page) -> str:
    from .core.report.presentations import PageResult
    from .writers.outputs.rendering import render

    return str(render("page", "markdown", PageResult("page", page, page)))


# The records of the core know nothing of how they are shown.
Flow._repr_html_ = _flow_html  # type: ignore[attr-defined]
Estate._repr_html_ = _estate_html  # type: ignore[attr-defined]
Page._repr_markdown_ = _page_markdown  # type: ignore[attr-defined]
