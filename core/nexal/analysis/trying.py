"""Remedies are tried before they are offered: the recipe is changed as the click would change it, and judged again."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nexal.addresses import split_address
from nexal.engine import Plan
from nexal.recipe import parse_recipe

Steps = list[dict[str, Any]]
Apply = Callable[["_Draft", str, Mapping[str, Any]], str]
_KINDS: dict[str, Apply] = {}


@dataclass(frozen=True)
class _Draft:
    """A recipe's steps that are being changed, and the names of its sources, which no step may take."""

    steps: Steps
    sources: frozenset[str]

    def find(self, name: str) -> dict[str, Any]:
        return self.steps[self.place(name)]

    def place(self, name: str) -> int:
        """Where a step stands; before all steps for a source."""
        return next((index for index, step in enumerate(self.steps) if step["name"] == name), -1)

    def add(self, new: Sequence[Mapping[str, Any]], at: int) -> str | None:
        """Puts new steps in at a place, under names that are free; the name of the last."""
        taken = {step["name"] for step in self.steps} | self.sources
        names: dict[str, str] = {}
        for offset, step in enumerate(new):
            name, number = step["name"], 2
            while name in taken:
                name, number = f"{step['name']}_{number}", number + 1
            taken.add(name)
            renamed = readdressed(dict(step), lambda address: _renamed(address, names)) | {"name": name}
            names[step["name"]] = name
            self.steps.insert(at + offset, renamed)
        return names[new[-1]["name"]] if new else None


def tried(plan: Plan, item: str, remedy: Mapping[str, Any]) -> tuple[Plan, str] | None:
    """The plan after a remedy of a step (`kind` among its keys), and the item that is looked at then.

    None for what changes how sources are read: that is no matter of the recipe's steps. Raises RecipeError where the
    recipe after it would be unsound.
    """
    apply = _KINDS.get(remedy["kind"])
    if apply is None:
        return None
    data = plan.recipe.as_json()
    after = apply(_Draft(data.setdefault("steps", []), frozenset(plan.recipe.sources)), item, remedy)
    return Plan(parse_recipe(data), plan.frame, plan.readers, plan.absent), after


def _kind(name: str) -> Callable[[Apply], None]:
    def known(function: Apply) -> None:
        _KINDS[name] = function

    return known


def _renamed(address: str, names: Mapping[str, str]) -> str:
    item = split_address(address)[0]
    return names.get(item, item) + address[len(item) :]


def readdressed(value: Any, change: Callable[[str], str], key: str = "") -> Any:
    """A step with every address in its ports and settings changed."""
    if key in ("from", "times", "mask") and isinstance(value, str):
        return change(value)
    if isinstance(value, dict):
        if key == "in":
            return {
                port: [change(each) for each in fed] if isinstance(fed, list) else change(fed)
                for port, fed in value.items()
            }
        return {name: readdressed(inner, change, name) for name, inner in value.items()}
    return [readdressed(inner, change) for inner in value] if isinstance(value, list) else value


@_kind("insert")
def _insert(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    return draft.add(remedy["steps"], draft.place(item) + 1) or item


@_kind("replace")
def _replace(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    draft.find(item).update(remedy["replace"])
    return item


@_kind("change")
def _change(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    for name, change in remedy["change"].items():
        draft.find(name).update(change)
    return item


@_kind("feed")
def _feed(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    feed = remedy["feed"]
    last = draft.add(remedy.get("steps", []), draft.place(item))
    step = draft.find(item)
    step["in"] = dict(step.get("in", {})) | {feed["port"]: last or feed["address"]}
    return item


@_kind("instead")
def _instead(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    old, within = remedy["instead"], remedy.get("within", item)
    last = draft.add(remedy["steps"], draft.place(within))

    def change(address: str) -> str:
        if address == old:
            return str(last)
        return f"{last}{address[len(old) :]}" if split_address(address)[0] == old else address

    place = draft.place(within)
    draft.steps[place] = readdressed(draft.steps[place], change)
    return item


@_kind("lay_back")
def _lay_back(draft: _Draft, item: str, remedy: Mapping[str, Any]) -> str:
    feed = remedy["lay_back"]
    place = draft.place(item)
    behind = len(draft.steps) - place - 1
    last = draft.add(remedy["steps"], place + 1) or item
    first_after = len(draft.steps) - behind
    for at in range(first_after, len(draft.steps)):
        draft.steps[at] = readdressed(draft.steps[at], lambda address: _renamed(address, {item: last}))
    step = draft.find(item)
    step["in"] = dict(step.get("in", {})) | {feed["port"]: feed["address"]}
    return last
