"""Checks and the kinds of their remedies register themselves here.

A check says for which operations it has something to tell. A remedy is what one click does, as data: its kind says how
it is to be read. Whoever invents a kind registers it here and, for the browser, in `web/src/steps/remedies.ts`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from nexal.analysis.marks import Mark
from nexal.engine import Engine, Plan

Warnings = list[dict[str, Any]]
Function = TypeVar("Function", bound=Callable[..., Warnings])


@dataclass(frozen=True)
class Check:
    """A check of an item; of steps of certain operations only, where it names some."""

    bench: str
    function: Callable[..., Warnings]
    operations: frozenset[str]
    by_marks: bool

    def tells(
        self, engine: Engine, plan: Plan, item: str, subject: Sequence[Mark], background: Sequence[Mark]
    ) -> Warnings:
        step = plan.recipe.step(item)
        if self.operations and (step is None or step.op not in self.operations):
            return []
        if self.by_marks:
            return self.function(engine, plan, item, subject, background)
        return self.function(engine, plan, item)


CHECKS: list[Check] = []
_KINDS: dict[str, tuple[frozenset[str], frozenset[str]]] = {}


def remedy_kind(name: str, *keys: str, optional: Sequence[str] = ()) -> None:
    """Registers a kind of remedy by the keys that it has beside its label."""
    _KINDS[name] = frozenset(keys), frozenset(optional)


def kind_of(remedy: Mapping[str, Any]) -> str:
    """The registered kind of a remedy. Raises LookupError where there is none: a fault of the check."""
    given = set(remedy) - {"label", "judge", "effect"}
    for name, (keys, optional) in _KINDS.items():
        if keys <= given <= keys | optional:
            return name
    raise LookupError(f"a remedy with {', '.join(sorted(given))} is of no kind that is registered")


remedy_kind("insert", "steps")
"""Steps put behind the item."""
remedy_kind("replace", "replace")
"""Another `op`, `in`, `set` or `on` for the item itself."""


def check(bench: str, *operations: str, by_marks: bool = False) -> Callable[[Function], Function]:
    """Registers a check of a bench: of the named operations, or, where none is named, of every item.

    It is called with engine, plan and item, and `by_marks` also with the marks of subject and background. It answers
    warnings: `code`, `text` and a `remedy`; what is only worth knowing has None for that. A remedy is offered where the
    check has no such warning any more after it, or by its own `judge`, which is called with the plan after it and the
    item then, and answers in words what it does (`effect`), or None where it does harm.
    """

    def registered(function: Function) -> Function:
        CHECKS.append(Check(bench, function, frozenset(operations), by_marks))
        return function

    return registered
