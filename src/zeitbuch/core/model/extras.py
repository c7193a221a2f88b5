# One table of what is not brought along: what `pip install` names, what is said where it is missing, and for what.
"""Libraries that only some work needs."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from msgspec import Struct

from .problems import ZeitbuchError, fail


class Extra(Struct, frozen=True):
    """A group of libraries under ``[project.optional-dependencies]``: its name, the top-level modules and what they are for."""

    name: str
    modules: tuple[str, ...]
    purpose: str


EXTRAS = (
    Extra("book", ("sqlalchemy",), "the book (`record`, `history`, `review`, versions by @N)"),
    Extra("postgres", ("psycopg",), "books and usage in PostgreSQL"),
    Extra("charts", ("matplotlib",), "charts"),
    Extra("images", ("PIL",), "maps as PNG"),
    Extra("remote", ("fsspec",), "sources by address"),
    Extra("dask", ("distributed", "cloudpickle"), "work on a Dask cluster"),
    Extra("word", ("docx",), "Word files"),
    Extra("frames", ("pandas",), "data frames"),
    Extra(
        "usage",
        ("duckdb", "ibis", "pyarrow", "python_calamine", "lxml", "scipy"),
        "usage logs and what is measured by them",
    ),
    Extra("spark", ("pyspark", "py4j", "grpc"), "usage in Spark"),
    Extra("exact", ("tokenizers",), "tokenizer files"),
    Extra("brief", ("faker",), "names of people in texts that leave the house"),
)
_OF_MODULE = {module: extra for extra in EXTRAS for module in extra.modules}


def missing_library(module: str, found: str = "it not installed") -> ZeitbuchError:
    """What is said where a library of the table is not installed."""
    extra = _OF_MODULE[module]
    return fail(
        "library-missing",
        f"expected the library {module} for {extra.purpose}, found {found}",
        f"pip install 'zeitbuch[{extra.name}]' brings it",
    )


@contextlib.contextmanager
def telling_missing() -> Iterator[None]:
    """What is imported inside and not installed is told as a message, where it is in the table."""
    try:
        yield
    except ModuleNotFoundError as error:
        module = (error.name or "").partition(".")[0]
        if module not in _OF_MODULE:
            raise
        raise missing_library(module) from None
