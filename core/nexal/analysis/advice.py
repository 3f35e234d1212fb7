"""Everything that is likely wrong with an item, from all checks."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Sequence
from functools import cache
from typing import Any

import nexal.analysis
from nexal.analysis.checking import CHECKS, Check, kind_of
from nexal.analysis.marks import Mark
from nexal.analysis.trying import tried
from nexal.engine import Engine, Plan
from nexal.errors import Cancelled, NexalError


@cache
def checks() -> tuple[Check, ...]:
    """All checks, those of each module of this package whose name ends in `checks`."""
    for module in sorted(found.name for found in pkgutil.iter_modules(nexal.analysis.__path__)):
        if module.endswith("checks"):
            importlib.import_module(f"nexal.analysis.{module}")
    return tuple(CHECKS)


def advise(
    engine: Engine, plan: Plan, item: str, subject: Sequence[Mark] = (), background: Sequence[Mark] = ()
) -> list[dict[str, Any]]:
    """Warnings about an item, from every check that has something to tell of it.

    Each remedy has been tried, and comes with its kind and, where it was measured, its `effect`. One that does not
    help, or harms more than it helps, is not offered: the warning stays.
    """
    found = []
    for check in checks():
        rows = check.tells(engine, plan, item, subject, background)
        for row in rows:
            remedy = row["remedy"]
            if remedy:
                remedy = remedy | {"kind": kind_of(remedy)}
                remedy = _helping(engine, plan, item, check, row, remedy, (subject, background))
            found.append(row | {"remedy": remedy})
    return found


def _helping(
    engine: Engine,
    plan: Plan,
    item: str,
    check: Check,
    row: dict[str, Any],
    remedy: dict[str, Any],
    marks: tuple[Sequence[Mark], Sequence[Mark]],
) -> dict[str, Any] | None:
    """The remedy, with what it does where that was measured; None where it does not help."""
    judge = remedy.pop("judge", None)
    try:
        after = tried(plan, item, remedy)
        if after is None:
            return remedy
        if judge is not None:
            effect = judge(engine, *after)
            return remedy | {"effect": effect} if effect else None
        told = check.tells(engine, *after, *marks)
    except Cancelled:
        raise
    except NexalError:
        return None
    return None if any(other["code"] == row["code"] for other in told) else remedy
