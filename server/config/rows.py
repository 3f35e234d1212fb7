"""Rows by queries that are written out, for what every drag asks for.

Django takes five times as long over writing such a query as the database over answering it, and over each answer to a
written one as long again to find out what becomes of its columns. Here that is found out once. And what was asked
within the last second is not asked again, unless something was written since by any of the server's processes
(`config.database.writes`): what is dragged asks the same ten times a second.
"""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from django.db import connection
from django.db.models import Model

from config.database import writes

Wanted = type[Model] | str


@dataclass(frozen=True)
class _Table:
    """The columns of a model: their names, and what makes values of what is stored."""

    model: type[Model]
    names: tuple[str, ...]
    selected: tuple[str, ...]
    converted: tuple[tuple[int, Any, tuple[Callable[[Any, Any, Any], Any], ...]], ...]
    """Of those that are not as they are stored: which, of what column, by which functions, one after the other."""

    def row(self, stored: Sequence[Any]) -> Model | None:
        """A row of it, None where an outer join found none."""
        if all(value is None for value in stored):
            return None
        values = list(stored)
        for place, column, converters in self.converted:
            for convert in converters:
                values[place] = convert(values[place], column, connection)
        return self.model.from_db(connection.alias, self.names, values)


@cache
def _table(model: type[Model]) -> _Table:
    quoted = connection.ops.quote_name
    name = quoted(model._meta.db_table)
    fields = model._meta.concrete_fields
    columns = [field.get_col(model._meta.db_table) for field in fields]
    converters = [
        (*connection.ops.get_db_converters(column), *column.get_db_converters(connection)) for column in columns
    ]
    return _Table(
        model,
        tuple(field.attname for field in fields),
        tuple(f"{name}.{quoted(field.column)}" for field in fields if field.column),
        tuple((place, columns[place], found) for place, found in enumerate(converters) if found),
    )


@cache
def _selected(wanted: tuple[Wanted, ...]) -> str:
    return ", ".join(", ".join([each] if isinstance(each, str) else _table(each).selected) for each in wanted)


def rows(query: str, values: Sequence[Any], *wanted: Wanted) -> list[tuple[Any, ...]]:
    """What a query from its FROM on finds: of each row what is wanted, a model's whole row or a column by its name."""
    stored = _stored(f"SELECT {_selected(wanted)} {query}", tuple(values))
    return [tuple(_parts(row, wanted)) for row in stored]


Stored = Sequence[Sequence[Any]]


@dataclass(frozen=True)
class _Answer:
    stored: Stored
    writes: int
    """How much had been written when it was asked for."""
    asked: float


BELIEVED_SECONDS = 1.0
"""How long an answer holds if the server wrote nothing: others, as commands, may write to its database too."""
_answers: dict[tuple[str, tuple[Any, ...]], _Answer] = {}
_swept = 0.0


def _stored(query: str, values: tuple[Any, ...]) -> Stored:
    # Within a transaction others would be told what is not committed.
    if connection.in_atomic_block:
        return _asked(query, values)
    written, now = writes.so_far(), time.monotonic()
    known = _answers.get((query, values))
    if known and known.writes == written and now - known.asked < BELIEVED_SECONDS:
        return known.stored
    stored = _asked(query, values)
    _forget(now)
    _answers[query, values] = _Answer(stored, written, now)
    return stored


def _asked(query: str, values: tuple[Any, ...]) -> Stored:
    with connection.cursor() as cursor:
        cursor.execute(query, values)
        stored: Stored = cursor.fetchall()
    return stored


def _forget(now: float) -> None:
    """Drop what is believed no longer, once in that time: no more is kept than is asked for in two seconds."""
    global _swept
    if now - _swept < BELIEVED_SECONDS:
        return
    _swept = now
    for key, answer in _answers.copy().items():
        if now - answer.asked >= BELIEVED_SECONDS:
            _answers.pop(key, None)


def _parts(stored: Sequence[Any], wanted: tuple[Wanted, ...]) -> list[Any]:
    parts: list[Any] = []
    at = 0
    for each in wanted:
        if isinstance(each, str):
            parts.append(stored[at])
            at += 1
        else:
            table = _table(each)
            parts.append(table.row(stored[at : at + len(table.names)]))
            at += len(table.names)
    return parts
