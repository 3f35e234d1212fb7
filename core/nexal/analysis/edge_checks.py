"""What is likely wrong with soft edges, found from the recipe and from the pixels, each with a remedy of one click."""

from __future__ import annotations

from typing import Any

from nexal.addresses import split_address
from nexal.analysis.checking import check, remedy_kind
from nexal.analysis.diagnose import cure_of, diagnose
from nexal.engine import Engine, Plan
from nexal.picture import ALPHA_NAME, Alpha, split_channel
from nexal.recipe import Step

SURE = 0.5
"""Confidence from which a diagnosis may contradict what a picture is taken for."""

remedy_kind("instead", "steps", "instead", optional=("within",))
"""Steps behind an address that the item (or the step `within`) is fed from, in its place there."""
remedy_kind("read_alpha", "read_alpha")
"""Sources read with another alpha state, by name."""


@check("edges")
def check_edges(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """Warnings about a step that works on soft edges: `code`, `text`, and a `remedy`.

    - colour divided or multiplied by alpha that was so already
    - alpha blurred without its colour
    - a picture laid over another, or graded, that is not what it is taken for
    """
    step = plan.recipe.step(item)
    if step is None or not step.on:
        return []
    return _twice(plan, step) + _alpha_alone(plan, step) + _contradicted(engine, plan, step)


def _twice(plan: Plan, step: Step) -> list[dict[str, Any]]:
    done = {"unpremultiply": Alpha.STRAIGHT, "premultiply": Alpha.PREMULTIPLIED}.get(step.op)
    address = step.inputs.get("picture")
    if done is None or not isinstance(address, str) or plan.feed(address).description.alpha is not done:
        return []
    return [
        {
            "code": "twice",
            "text": f"{address} is {done.value} already; this does it again, and its soft edge goes wrong",
            "remedy": {"label": "Turn this step off", "replace": {"on": False}},
        }
    ]


def _alpha_alone(plan: Plan, step: Step) -> list[dict[str, Any]]:
    address = step.inputs.get("from")
    if step.op != "blur" or not isinstance(address, str):
        return []
    description = plan.feed(address).description
    named = step.settings.get("channels") or []
    if description.is_plane or not description.has_alpha or not named:
        return []
    if any(split_channel(str(name))[1] != ALPHA_NAME for name in named):
        return []
    radius = float(step.settings.get("radius", 4.0))
    return [
        {
            "code": "alpha_alone",
            "text": "Alpha is blurred without its colour: the edge gets a dark or bright line",
            "remedy": {
                "label": "Melt colour and alpha together",
                "replace": {
                    "op": "edge_melt",
                    "in": {"picture": address},
                    "set": {"radius": radius, "width": 4 * radius},
                },
            },
        }
    ]


def _contradicted(engine: Engine, plan: Plan, step: Step) -> list[dict[str, Any]]:
    found = []
    for port in {"stack": ("under", "over"), "grade": ("picture",)}.get(step.op, ()):
        address = step.inputs.get(port)
        if not isinstance(address, str):
            continue
        feed = plan.feed(address)
        if not feed.description.has_alpha or feed.description.is_plane or feed.description.all_data:
            continue
        answer = diagnose(engine, plan, feed)
        cure = cure_of(answer, address) if answer["confidence"] >= SURE else None
        if not cure:
            continue
        name, rest = split_address(address)
        remedy: dict[str, Any] = {"label": cure["text"]}
        if cure["read"]:
            if name not in plan.recipe.sources or rest:
                continue
            remedy["read_alpha"] = {name: cure["read"]}
        else:
            remedy |= {"steps": cure["steps"], "instead": name}
        done = "laid in" if step.op == "stack" else "graded"
        what = {"matted": "matted with a colour"}.get(answer["verdict"], answer["verdict"])
        how = " in encoded values" if answer["domain"] == "display" else ""
        found.append(
            {
                "code": f"not_{answer['claims']}_{port}",
                "text": f"{address} is {what}{how}, and is {done} as {answer['claims']}: its soft edge shows a fringe",
                "remedy": remedy,
            }
        )
    return found
