# Steps, links and cases of an estate are alike by the thousand. What the keys and the types of one settle is worked out once and
# kept as a type, against which others are held in one go; only values that may or may not be usable are looked at in each.
"""What is unread in records, worked out once for all records of one form."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

import msgspec

from zeitbuch.readers.input.limits import count_values

from .field_checks import Field, Form, Keys, Refused, refused_values, with_refused
from .paths import Claims, Getter, unclaimed_part

_KEPT = 1000
_LEARNED_AT = 2  # how often keys are met without a form before one is worked out: what comes once needs none
_LEARNED = 8  # and how often at most
_CONTAINERS = (dict, list)
_LONGEST = 8  # values of a list whose places have a meaning
_SCALAR: Any = str | int | float | bool | None
_convert = msgspec.convert


class _Unsettled(Exception):
    """The types of a record do not settle what is unread in it."""


class _Look(NamedTuple):
    """A value whose type does not settle whether it is of use: where it is, its test, what has passed it, and whether the record
    must have a use for it."""

    get: Getter
    usable: Callable[[Any], bool]
    fine: set[Any]
    serves: Callable[[dict[str, Any]], bool] | None

    def passes(self, record: dict[str, Any]) -> bool:
        value = self.get(record)
        if value not in self.fine:
            if not self.usable(value):
                return False
            if len(self.fine) < _KEPT:
                self.fine.add(value)
        return self.serves is None or self.serves(record)


class _Form(NamedTuple):
    """What records of one type have in common: how many values are unread for certain, the keys of what is unread whole or in part
    and differs, the values to look at, the fields to look at closely, whether no path leaves anything unclaimed, and whether there is
    nothing to look at."""

    type: Any
    missed: int
    counted: tuple[str, ...]
    vague: tuple[str, ...]
    looks: tuple[_Look, ...]
    close: tuple[Field, ...]
    whole: bool
    settled: bool


class _Part:
    """One place of records: which fields stand there and below, and what of it is claimed (None: all is, or nothing is counted)."""

    def __init__(self, claims: Claims | None, paths: Iterable[tuple[Keys, Field]]) -> None:
        self.claims = claims
        self.here: dict[str, list[Field]] = {}
        deeper: dict[str, list[tuple[Keys, Field]]] = {}
        for (first, *rest), field in paths:
            if rest:
                deeper.setdefault(first, []).append((tuple(rest), field))
            else:
                self.here.setdefault(first, []).append(field)
        partly = {key: held for key, held in (claims or {}).items() if held is not True}
        self.below = {key: _Part(partly.get(key), deeper.get(key, ())) for key in dict.fromkeys([*deeper, *partly])}
        self.names = tuple(dict.fromkeys([*self.here, *deeper]))
        self.is_whole = not self.names and claims == {"*": True}

    def type_of_object(self, value: dict[str, Any], vague: list[str] | None = None) -> Any:
        """A type that an object has when what is unread in it is the same as in this one, but for what stands below ``vague`` keys
        (a whole record has such; None: a part of one). Raises _Unsettled when there is no such type."""
        if "*" in self.below or "*" in self.here or not all([type(key) is str for key in value]):
            raise _Unsettled
        every = self.claims is not None
        keys = tuple(value) if every else self.names
        names = {f"f{place}": key for place, key in enumerate(keys)}
        types = [self._type_below(key, value.get(key), vague) for key in keys]
        fields = [(name, one) if every else (name, one, None) for name, one in zip(names, types, strict=True)]
        return msgspec.defstruct("Form", fields, rename=names, forbid_unknown_fields=every, gc=False)

    def _type_of_list(self, value: list[Any]) -> Any:
        if len(value) > _LONGEST or "*" in self.below or "*" in self.here:
            raise _Unsettled
        return tuple[tuple([self._type_at(str(place), item, False, True) for place, item in enumerate(value)])]  # type: ignore[misc]

    def _type_below(self, key: str, value: Any, vague: list[str] | None) -> Any:
        if vague is None:
            return self._type_at(key, value, False)
        try:
            return self._type_at(key, value, True)
        except _Unsettled:
            vague.append(key)
            return type(value)

    def _type_at(self, key: str, value: Any, top: bool, listed: bool = False) -> Any:
        fields = self.here.get(key)
        part = self.below.get(key)
        if part is not None:
            return part._type_of_part(value, fields)
        claimed = self.claims is None or _held_at(self.claims, key) is True
        if claimed:
            return _type_of_field(value, fields) if fields else Any
        if type(value) not in _CONTAINERS:
            return _type_of_field(value, fields) if fields else type(value) if listed else _SCALAR
        if not top:
            raise _Unsettled
        return type(value)

    def _type_of_part(self, value: Any, fields: list[Field] | None) -> Any:
        if self.is_whole and type(value) in _CONTAINERS:
            return type(value)
        if type(value) is dict:
            return self.type_of_object(value)
        if type(value) is list:
            return self._type_of_list(value)
        if fields and type(value) in (int, float):
            raise _Unsettled  # the type of a number does not say whether it is within bounds
        return type(value)


def _type_of_field(value: Any, fields: list[Field]) -> Any:
    """The type of values that serve all these fields as this one does; its own type when that settles nothing."""
    if len(fields) > 1 and type(value) in (int, float):
        raise _Unsettled
    if len(fields) > 1 or type(value) in _CONTAINERS:
        return type(value)
    (field,) = fields
    simple = len(field.ways) == 1 and field.serves is None and field.partner is None
    if not _is_sure(value, field.form) and not (simple and value is None):
        return type(value)
    if len(field.form.numbers) > 1:
        return type(value) if type(value) not in (int, float) else _numbers_with(value, field.form)
    union = _type_of_form(field.form)
    return union | None if simple and union is not None else union


def _type_of_form(form: Form) -> Any:
    """All values of which the type settles that they will do."""
    union: Any = form.numbers[0] if form.numbers else None
    for one in sorted(form.plain - {dict, list}, key=str):
        union = one if union is None else union | one
    return union


def _is_sure(value: Any, form: Form) -> bool:
    """Whether the type of a value, with the bounds of numbers, settles that it is of use."""
    if type(value) in form.plain:
        return True
    return type(value) in (int, float) and form.usable(value) and _numbers_with(value, form) is not None


def _numbers_with(value: float, form: Form) -> Any:
    """The numbers of a form to which a value belongs."""
    return next((numbers for numbers in form.numbers if _fits(value, numbers)), None)


def _fits(value: Any, one: Any) -> bool:
    try:
        _convert(value, one)
    except msgspec.ValidationError:
        return False
    return True


class RecordForms:
    """What is unread in the records of one rule. ``claims`` are the places that it claims (None: everything in them is read), and
    ``fields`` what must stand there."""

    def __init__(self, claims: Claims | None, fields: Iterable[Field]) -> None:
        self.claims = claims
        self.fields = tuple(fields)
        self.top = _Part(claims, [(keys, field) for field in self.fields for keys, _ in field.ways])
        self.known: dict[tuple[str, ...], list[_Form]] = {}
        self.met: dict[tuple[str, ...], int] = {}
        self.settled: dict[tuple[str, ...], list[tuple[Any, int]]] = {}

    def missed_for_sure(self, record: dict[str, Any]) -> int | None:
        """How many values of a record no path claims, where its type settles that and that no value is refused; else None."""
        for form, missed in self.settled.get(tuple(record), ()):
            try:
                _convert(record, form)
            except msgspec.ValidationError:
                continue
            return missed
        return None

    def unread_in(self, record: dict[str, Any]) -> tuple[int, list[Refused]]:
        """How many values of a record no path claims, and the claimed values that are not used."""
        form = self._form_of(record)
        if form is None:
            rest = {} if self.claims is None else unclaimed_part(record, self.claims)
            return count_values(rest), refused_values(record, self.fields)
        if form.settled:
            return form.missed, []
        differing = self._missed_below(record, form) if form.counted or form.vague else 0
        return form.missed + differing, self._refused(record, form)

    def _missed_below(self, record: dict[str, Any], form: _Form) -> int:
        """How many values are unread below the keys where that differs."""
        missed = sum([count_values(record[key]) for key in form.counted])
        vague = {key: record[key] for key in form.vague}
        return missed + (count_values(unclaimed_part(vague, self.claims)) if vague and self.claims is not None else 0)

    def unread_parts(self, record: dict[str, Any]) -> tuple[dict[str, Any], list[Refused]]:
        """The part of a record that no path claims, and the claimed values that are not used."""
        form = self._form_of(record)
        refused = refused_values(record, self.fields) if form is None else self._refused(record, form)
        whole = self.claims is None or (form is not None and form.whole)
        return {} if whole or self.claims is None else unclaimed_part(record, self.claims), refused

    def rest_of(self, record: dict[str, Any]) -> dict[str, Any]:
        """The part of a record that is unread: what no path claims, and what is claimed and not used."""
        if self.missed_for_sure(record) == 0:
            return {}
        return with_refused(*self.unread_parts(record))

    def refused_in(self, record: dict[str, Any]) -> list[Refused]:
        """The values that the fields claim in a record and do not use."""
        form = self._form_of(record)
        return refused_values(record, self.fields) if form is None else self._refused(record, form)

    def _refused(self, record: dict[str, Any], form: _Form) -> list[Refused]:
        for look in form.looks:
            if not look.passes(record):
                return refused_values(record, self.fields)
        if form.close and refused_values(record, form.close):
            return refused_values(record, self.fields)
        return []

    # -- forms --------------------------------------------------------------------------------------------------------

    def _form_of(self, record: dict[str, Any]) -> _Form | None:
        """The form of a record, if it has one that was met before."""
        keys = tuple(record)
        known = self.known.get(keys)
        for form in known or ():
            try:
                _convert(record, form.type)
            except msgspec.ValidationError:
                continue
            return form
        times = self.met.get(keys, 0) + 1
        if times > _LEARNED or (times == 1 and len(self.met) >= _KEPT):
            return None
        self.met[keys] = times
        return self._learn_form(record, keys) if times >= _LEARNED_AT else None

    def _learn_form(self, record: dict[str, Any], keys: tuple[str, ...]) -> _Form | None:
        vague: list[str] = []
        try:
            of_record = self.top.type_of_object(record, vague)
        except _Unsettled:
            return None
        looks, close = self._looks_at(record, vague)
        claims = self.claims or {}
        rest = {} if self.claims is None else unclaimed_part(record, claims)
        counted = tuple([key for key, value in rest.items() if _is_unclaimed(key, value, claims) and key not in vague])
        missed = count_values({key: value for key, value in rest.items() if key not in counted and key not in vague})
        settled = not looks and not close and not counted and not vague
        whole = not rest and not vague
        form = _Form(of_record, missed, counted, tuple(vague), tuple(looks), tuple(close), whole, settled)
        self.known.setdefault(keys, []).append(form)
        if settled and (whole or missed):
            self.settled.setdefault(keys, []).append((of_record, missed))
        return form

    def _looks_at(self, record: dict[str, Any], vague: list[str]) -> tuple[list[_Look], list[Field]]:
        """The values, and the fields, that are to be looked at in every record with the type of this one."""
        looks: list[_Look] = []
        close: list[Field] = []
        for field in self.fields:
            if _stands_below(field, vague):
                close.append(field)
            else:
                by = field.served_by
                typed = by is not None and not _stands_below(by, vague) and _serves_by_type(by, record)
                _settle(field._replace(serves=None) if typed else field, record, looks, close)
        return looks, close


def _stands_below(field: Field, keys: Iterable[str]) -> bool:
    return any([way[0] in keys for way, _ in field.ways])


def _serves_by_type(field: Field, record: dict[str, Any]) -> bool:
    """Whether the type of a record settles that a number of it is above 0."""
    value = next((value for _, get in field.ways if (value := get(record)) is not None), None)
    return type(value) is int and value > 0 and _is_sure(value, field.form)


def _is_unclaimed(key: str, value: Any, claims: Claims) -> bool:
    """Whether a container stands there that nothing claims even a part of."""
    return type(value) in _CONTAINERS and _held_at(claims, key) is None


def _held_at(claims: Any, key: str) -> Any:
    return claims.get(key, claims.get("*"))


def _settle(field: Field, record: dict[str, Any], looks: list[_Look], close: list[Field]) -> None:
    """What of a field its type settles needs no more: the rest is added to what is to be looked at."""
    present = [(get, value) for _, get in field.ways if (value := get(record)) is not None]
    if not present:
        return
    asked = [get for get, value in present if not _is_sure(value, field.form)]
    if field.partner is not None and not _is_sure(field.partner(record), field.form):
        asked.append(field.partner)
    only = len(present) == 1 or field.gathers
    if not only or any([type(get(record)) in (*_CONTAINERS, type(None)) for get in asked]):
        close.append(field)
    elif asked or field.serves is not None:
        asked = asked or [present[0][0]]
        looks += [_Look(get, field.form.usable, set(), field.serves) for get in asked]
