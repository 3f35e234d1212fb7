"""What is likely wrong where inks become colour."""

from __future__ import annotations

from typing import Any

from nexal.addresses import split_address
from nexal.analysis.checking import check
from nexal.engine import Engine, Plan


@check("mattes", "ink_split", "ink_join")
def check_inks(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """A warning about an `ink_join` step that goes the simple way though its picture carries a profile of its own."""
    step = plan.recipe.step(item)
    if step is None or not step.on or step.op != "ink_join" or step.settings.get("profile", "simple") != "simple":
        return []
    address = str(step.inputs["picture"])
    inks = plan.feed(address).description.inks
    if inks is None:
        return []
    own = split_address(address)[0]
    text = f"{own} carries the profile of its inks, {inks.name}; the simple way shows other colours"
    replace = {"set": dict(step.settings) | {"profile": {"from": own}}}
    return [{"code": "inks", "text": text, "remedy": {"label": "Use its profile", "replace": replace}}]
