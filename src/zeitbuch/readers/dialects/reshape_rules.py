# What a dialect may say of an export that is not built the way flows are: definitions within texts, settings as pairs, ends that are
# written into one text, ids that stand for entries of a catalogue, rows of tables. Each is a table of the dialect file; what they
# do is in reshape.py.
"""Rules that bring an export into shape before its flows are read."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

# What a text of a dialect must be: ``dialect_checks.py`` goes by these names.
Paths = str | list[str]  # dotted paths within a record, of which the first that is there counts
DottedPath = str
QueryText = str  # JSONPath (RFC 9535)
PatternText = str  # names in braces with literals between them
PatternTexts = str | list[str]  # several, of which the first that fits counts


class Rule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Base of the tables of a dialect file: an unknown key is an error, never ignored."""


class TextRule(Rule, frozen=True):
    """Texts (``at``, JSONPath from the document) that hold a definition: they are read as what they hold."""

    at: QueryText
    form: Literal["json", "yaml"] = "json"


class SplitRule(Rule, frozen=True):
    """Texts (``at``, JSONPath from the document) into which several things are written, as ``pattern`` says: names in braces with
    what stands between them, such as ``{from}:{outlet} -> {to}``. Each becomes an object with these names as keys; with ``each``
    (what divides several of them) a list of such objects. A part in brackets may be missing: ``{step}[:{outlet}]``; two brackets are one
    that stands in the text. Of several patterns the first that fits counts."""

    at: QueryText
    pattern: PatternTexts
    each: str = ""


class RowsRule(Rule, frozen=True):
    """Tables (``at``, JSONPath from the document) with the names of their columns in one list and the values of each row in another: ``columns``
    and ``rows`` are dotted paths to these within an object, and each row becomes an object, where the rows stand. Without ``rows`` a table is
    a list of lists of which the first has the names."""

    at: QueryText
    columns: DottedPath = ""
    rows: DottedPath = ""


class DivideRule(Rule, frozen=True):
    """Lists of records of several sorts (``at``, JSONPath from the document): each becomes an object with a list for every sort, which
    the dotted path ``by`` within a record says."""

    at: QueryText
    by: DottedPath


class UnwrapRule(Rule, frozen=True):
    """Records with a single key that says what they are (``at``, JSONPath from the document): each becomes what stands below that key,
    with the key under ``into``; what is no object below stands under ``value``. Rules for records within others come first."""

    at: QueryText
    into: str = "operation"
    value: str = "value"


class PairsRule(Rule, frozen=True):
    """Lists of names and values (``at``, JSONPath from the document): each becomes an object. ``name`` and ``value`` are dotted
    paths within one item."""

    at: QueryText
    name: Paths = "name"
    value: Paths = "value"


class MergeRule(Rule, frozen=True):
    """Several texts of a record (``at``, JSONPath from the document) that are one: ``pattern`` says how, with dotted paths in braces,
    such as ``{family}.{verb}``. The text stands under the key ``into`` of the record, and its parts are gone."""

    at: QueryText
    pattern: PatternText
    into: str


class CatalogueRule(Rule, frozen=True):
    """Entries that are named by their id elsewhere: where they are (``at``, JSONPath from the document), the dotted path to the id
    within one (``@key``: the key under which it stands), and where ids of them stand (``refs``, JSONPath from the document). The
    entry takes the place of its id."""

    at: QueryText
    refs: list[QueryText]
    id: Paths = "id"


class GroupRule(Rule, frozen=True):
    """Rows (``at``, JSONPath from the document) of which all with the same value at the dotted path ``by`` belong together: under the
    key ``into`` of the document stands a list with one object for each value, which holds it (under the last key of ``by``) and its
    rows (under ``rows``). Without ``by`` all rows of a document belong together. What stands at the paths ``head`` and is the same in all
    rows of a group is said once, of the group."""

    at: QueryText
    by: DottedPath = ""
    head: list[DottedPath] = []
    into: str = "flows"
    rows: str = "steps"


class GatherRule(Rule, frozen=True):
    """Items (``at``, JSONPath from the document) that belong to other records (``to``, JSONPath from the document): those whose value
    at the dotted path ``by`` is that of ``equals`` within the record (or its key, ``@key``) are put into it, as a list under the key
    ``into``; rules with the same ``into`` fill one list. With ``name`` they are names and values (``value``), and become an object."""

    at: QueryText
    by: DottedPath
    to: QueryText
    into: str
    equals: DottedPath = "id"
    name: Paths = ""
    value: Paths = "value"


class BesideRule(Rule, frozen=True):
    """A file that belongs to others in the same folder or package: ``main`` is a pattern of their names, ``file`` that of the file
    beside, where ``*`` stands for the same text as in ``main``. What stands in it is found under the key ``into`` of the document."""

    file: str
    into: str
    main: str = "*"
