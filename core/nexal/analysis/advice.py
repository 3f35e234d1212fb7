"""Everything that is likely wrong with an item, from all checks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nexal.analysis.assembly_checks import check_assembly
from nexal.analysis.checks import check_matte
from nexal.analysis.edge_checks import check_edges
from nexal.analysis.ink_checks import check_inks
from nexal.analysis.marks import Mark
from nexal.analysis.pack_checks import check_packing
from nexal.analysis.sum_checks import check_sum
from nexal.engine import Engine, Plan


def advise(
    engine: Engine, plan: Plan, item: str, subject: Sequence[Mark] = (), background: Sequence[Mark] = ()
) -> list[dict[str, Any]]:
    """Warnings about an item as a matte, a sum of passes, an assembly, a picture with soft edges, a texture and inks.

    Each has `code`, `text` and a `remedy`; what is only worth knowing has None for that.
    """
    found = check_matte(engine, plan, item, subject, background)
    for check in (check_sum, check_assembly, check_edges, check_packing, check_inks):
        found += check(engine, plan, item)
    return found
