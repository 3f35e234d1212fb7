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
from nexal.engine import Engine, Plan


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
    """Warnings about an item, from every check that has something to tell of it; each remedy with its kind."""
    found = [row for check in checks() for row in check.tells(engine, plan, item, subject, background)]
    return [
        row | {"remedy": row["remedy"] | {"kind": kind_of(row["remedy"])} if row["remedy"] else None} for row in found
    ]
