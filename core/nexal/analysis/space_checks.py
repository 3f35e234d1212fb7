"""What is likely wrong with a step that works by depth, position or ids, each with a remedy of one click."""

from __future__ import annotations

from typing import Any

import numpy as np

from nexal.addresses import split_address
from nexal.analysis.checking import Warnings, check, remedy_kind
from nexal.analysis.depth import AVERAGED, LEAST_EDGES, DepthReport, reports_of
from nexal.camera import camera_of
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.engine.plan import addresses_of
from nexal.errors import NexalError
from nexal.formats.reading import StoredSource
from nexal.hashed_ids import id_layers
from nexal.kernels.nowhere import is_nothing, is_nowhere
from nexal.operations.geometry import axes_of
from nexal.picture import ALPHA_NAME
from nexal.recipe import Step

remedy_kind("lay_back", "lay_back", "steps")
"""Another address for a port of the item, and steps behind it that take its place for all that use it."""
BY_DEPTH = ("depth_slice", "depth_range", "fog", "defocus", "position_from_depth")


def _depth(plan: Plan, step: Step) -> DepthReport | None:
    """The report of the depth channel of a source that a step is fed with; None where something was made of it."""
    address = step.inputs.get("depth")
    if not isinstance(address, str):
        return None
    source, channel = split_address(address)
    reader = plan.readers.get(source)
    if not isinstance(reader, StoredSource):
        return None
    try:
        return next((row for row in reports_of(reader) if row.channel == channel), None)
    except NexalError:
        return None  # told where the source is


@check("space", *BY_DEPTH)
def check_depth(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Warnings about the depth that a step works by.

    - its edges were averaged: remedy, `depth_edges` before the step
    - near is where its numbers are large: what goes by distance has them turned round first
    - nobody can tell which end is near: no remedy, since half of them would make it worse
    - it is the way to the eye, and positions are made as if it went along the view, or the other way round
    """
    step = plan.recipe.step(item)
    report = _depth(plan, step) if step and step.on else None
    if step is None or report is None:
        return []
    address = str(step.inputs["depth"])
    warnings: Warnings = []
    if report.averaged > AVERAGED and report.edges >= LEAST_EDGES:
        mended = {"name": "mended_depth", "op": "depth_edges", "in": {"depth": address}}
        warnings.append(
            {
                "code": "averaged_depth",
                "text": f"Edges of {address} were averaged: {report.averaged:.0%} of them are neither surface's",
                "remedy": {
                    "label": "Mend its edges first",
                    "steps": [mended],
                    "feed": {"port": "depth", "address": "mended_depth"},
                },
            }
        )
    if report.asks:
        warnings.append(
            {
                "code": "depth_unsure",
                "text": f"Which end of {address} is near can't be told: look, and say at the source how it is read",
                "remedy": None,
            }
        )
    elif report.near_is == "large" and step.op not in ("depth_range", "depth_slice"):
        turned = _turned(report)
        unit = {"name": "distance", "op": "depth_unit", "in": {"depth": address}, "set": turned}
        warnings.append(
            {
                "code": "depth_turned",
                "text": f"Near is where {address} is large: by distance it is the wrong way round",
                "remedy": {
                    "label": f"Turn it round (1 to {turned['far']:g}, put your own distances)",
                    "steps": [unit],
                    "feed": {"port": "depth", "address": "distance"},
                },
            }
        )
    radial = {"planar": False, "radial": True}.get(report.kind)
    if step.op == "position_from_depth" and radial is not None and step.settings.get("radial", False) != radial:
        told = "the way to the eye" if radial else "the distance along the view"
        warnings.append(
            {
                "code": "radial_depth",
                "text": f"{address} is {told}: the positions bend",
                "remedy": {"label": "Read it as that", "replace": {"set": dict(step.settings) | {"radial": radial}}},
            }
        )
    return warnings


MOST_FAR = 1000.0


def _turned(report: DepthReport) -> dict[str, Any]:
    """Settings of `depth_unit` by which what is near comes to lie at 1, in true proportion where that is known.

    Of an inverse depth distances are as 1 / v; a z-buffer is linear in them, too, from an end that it does not tell.
    """
    near, far = report.range[1], report.range[0]
    inverse = report.kind in ("inverse", "buffer")
    exact = report.kind == "inverse" and far > 0
    distance = float(f"{min(near / far, MOST_FAR):.6g}") if exact else 10.0
    far = near / distance if exact else far
    kind = "inverse" if inverse else "normalised"
    return {"kind": kind, "near": 1.0, "far": distance, "near_value": near, "far_value": far}


@check("space", "fog", "defocus")
def check_sizes(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Warnings about a depth that does not lie over its picture.

    - of another size: remedy, resized to the picture's, each pixel one of its own
    - alpha and depth disagree about where nothing is
    """
    step = plan.recipe.step(item)
    addresses = [step.inputs.get(port) for port in ("picture", "depth")] if step and step.on else []
    if len(addresses) < 2 or not all(isinstance(address, str) for address in addresses):
        return []
    picture, depth = (plan.feed(str(address)).description for address in addresses)
    own, other = picture.display, depth.display
    if (own.width, own.height) != (other.width, other.height):
        sized = {"width": own.width, "height": own.height, "filter": "nearest"}
        fitted = {"name": "fitted_depth", "op": "resize", "in": {"from": addresses[1]}, "set": sized}
        return [
            {
                "code": "depth_size",
                "text": f"{addresses[1]} is {other.width} x {other.height}, the picture {own.width} x {own.height}",
                "remedy": {
                    "label": "Bring it to the picture's size",
                    "steps": [fitted],
                    "feed": {"port": "depth", "address": "fitted_depth"},
                },
            }
        ]
    share = _disagreeing(engine, plan, str(addresses[0]), str(addresses[1]))
    if share < DISAGREE:
        return []
    text = f"Alpha and depth disagree about what is empty, at {share:.0%} of the picture"
    return [{"code": "alpha_and_depth", "text": text, "remedy": None}]


DISAGREE = 0.03
"""Share of pixels that are covered and have no depth, or the other way round, from which on it is told."""
LONGEST = 480


def _disagreeing(engine: Engine, plan: Plan, picture: str, depth: str) -> float:
    """The share of pixels that alpha covers wholly where there is no depth, or leaves clear where there is one."""
    feeds = plan.feed(picture), plan.feed(depth)
    if not feeds[0].description.has_alpha:
        return 0.0
    window = feeds[0].description.display
    scale = scale_within(window, LONGEST)
    alpha, values = (
        engine.evaluate(feed, plan, scale=scale, region=window.scaled(scale), channels=[name], patient=False).planes[
            name
        ]
        for feed, name in zip(feeds, (ALPHA_NAME, feeds[1].description.channels[0]), strict=True)
    )
    nothing = is_nothing(values)
    return float(np.mean(np.where(nothing, alpha >= 1, alpha <= 0)))


OFF_PIXELS = 2.0
"""How far from their own pixels positions fall, in the median, that are not those of the camera's world."""


@check("space", "space_matte", "fog", "relight")
def check_positions(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Positions that the camera of their own file sees elsewhere: mostly those of camera space."""
    step = plan.recipe.step(item)
    address = step.inputs.get("position") if step and step.on else None
    if not isinstance(address, str):
        return []
    feed = plan.feed(address)
    description = feed.description
    try:
        axes = axes_of(description, "position")
        camera = camera_of(description)
    except NexalError:
        return []  # told by the step itself
    if camera is None:
        return []
    scale = scale_within(description.display, LONGEST)
    region = description.window.scaled(scale)
    planes = engine.evaluate(feed, plan, scale=scale, region=region, channels=list(axes), patient=False).planes
    points = np.stack([planes[axis] for axis in axes])
    there = ~is_nowhere(points)
    y, x = np.nonzero(there)
    if len(x) < LEAST_POINTS:
        return []
    at, _ = camera.seen(points[:, there].T)
    wanted = (np.stack([x + region.x, y + region.y], axis=1) + 0.5) / float(scale)
    away = np.nan_to_num(np.abs(at - wanted).max(axis=1), nan=np.inf, posinf=np.inf)
    if float(np.median(away)) < OFF_PIXELS / float(scale):
        return []
    text = f"The camera of its file sees {address} elsewhere: it is in camera space, or another frame's, and will swim"
    return [{"code": "camera_space", "text": text, "remedy": None}]


LEAST_POINTS = 100


@check("space", "depth_slice", "fog")
def check_limits(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Warnings about limits that lie outside of what there is; remedies put them back.

    - a slice that holds nothing, or everything
    - fog that begins behind all there is, or is whole before it
    """
    step = plan.recipe.step(item)
    report = _depth(plan, step) if step and step.on else None
    if step is None or report is None or report.kind in ("flat", "empty"):
        return []
    low, high = report.range
    # What moves is judged by the limits that it has at the frame.
    settings: Any = plan.node(item).settings
    deep = high - low

    def put(**changes: float) -> dict[str, Any]:
        return {"set": dict(step.settings) | {name: float(f"{value:.4g}") for name, value in changes.items()}}

    if step.op == "depth_slice":
        outside = settings.near - settings.feather_near > high or settings.far + settings.feather_far < low
        if not outside:
            return []
        return [
            {
                "code": "slice_outside",
                "text": f"The slice lies outside of the depth, which goes from {low:.4g} to {high:.4g}",
                "remedy": {
                    "label": "Put it into the middle",
                    "replace": put(near=low + 0.3 * deep, far=low + 0.6 * deep, feather_near=0.05 * deep,
                                   feather_far=0.05 * deep),
                },
            }
        ]  # fmt: skip
    whole_before = settings.law == "linear" and settings.end <= low
    if settings.law == "low" or not (settings.start >= high or whole_before):
        return []
    return [
        {
            "code": "fog_outside",
            "text": f"Fog {'is whole before' if whole_before else 'begins behind'} all there is, "
            f"{low:.4g} to {high:.4g}",
            "remedy": {"label": "From the nearest to the farthest", "replace": put(start=low, end=high)},
        }
    ]


@check("space", "defocus")
def check_defocus(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Warnings about a defocus: a second one behind another, whose blur comes on top. Remedy: the earlier one off."""
    step = plan.recipe.step(item)
    if step is None or not step.on:
        return []
    above = [name for name in _upstream(plan, item) if _is(plan, name, "defocus")]
    if not above:
        return []
    return [
        {
            "code": "defocus_twice",
            "text": f"{above[0]} is a defocus already: this one blurs what is blurred",
            "remedy": {"label": f"Turn {above[0]} off", "change": {above[0]: {"on": False}}},
        }
    ]


@check("space", "defocus", "fog")
def check_elements(engine: Engine, plan: Plan, item: str) -> Warnings:
    """What was laid over the render before a step that goes by its depth, and that the depth knows nothing of.

    Glow, smoke, anything of another file: it is blurred, or drowned, by what lies behind it. Remedy, where nothing
    has changed it since: the step works without it, and it is laid back on top.
    """
    step = plan.recipe.step(item)
    addresses = [step.inputs.get(port) for port in ("picture", "depth")] if step and step.on else []
    if len(addresses) < 2 or not all(isinstance(address, str) for address in addresses):
        return []
    picture, depth = map(str, addresses)
    known = _sources(plan, depth)
    found: list[tuple[str, Step]] = []
    at = picture
    while (layer := plan.recipe.step(split_address(at)[0])) is not None:
        under, over = _under(layer), layer.inputs.get("over")
        if under is None:
            break
        if layer.on and layer.op == "stack" and isinstance(over, str) and not known & _sources(plan, over):
            found.append((over, layer))
        at = under
    if not found or not known & _sources(plan, at):
        return []
    names = " and ".join(over for over, _ in found)
    text = f"{depth} knows nothing of {names}: it is treated as what lies behind it"
    # Those on top of all else, the uppermost first, can be taken out and laid back as they are.
    removable: list[Step] = []
    at = picture
    while (layer := plan.recipe.step(split_address(at)[0])) in [one for _, one in found]:
        assert layer is not None
        removable.append(layer)
        at = str(layer.inputs["under"])
    if len(removable) < len(found):
        return [{"code": "unknown_elements", "text": text, "remedy": None}]
    steps, below = [], item
    for layer in reversed(removable):
        name = f"{layer.name}_after"
        kept = dict(layer.settings)
        inputs = dict(layer.inputs) | {"under": below}
        steps.append({"name": name, "op": "stack", "in": inputs, **({"set": kept} if kept else {})})
        below = name
    return [
        {
            "code": "unknown_elements",
            "text": text,
            "remedy": {
                "label": f"Keep {names} out, and lay it back on top",
                "lay_back": {"port": "picture", "address": at},
                "steps": steps,
            },
        }
    ]


def _under(step: Step) -> str | None:
    """What a step lies over or changes: the address that its picture goes on at; None where there is none."""
    ports = ("under",) if step.op == "stack" else ("picture", "from")
    found = next((step.inputs[port] for port in ports if port in step.inputs), None)
    return found if isinstance(found, str) else None


def _sources(plan: Plan, address: str) -> set[str]:
    """The sources that an address was made of."""
    return {name for name in _with(plan, address) if plan.recipe.step(name) is None}


@check("space", "stack", "grade", "attach_alpha")
def check_sharp_matte(engine: Engine, plan: Plan, item: str) -> Warnings:
    """A matte of the sharp picture used on the defocused one: its edge is sharp where the picture's is not.

    Remedy: the matte goes through the same lens. (What is graded or cut before the lens is blurred with the picture.)
    """
    step = plan.recipe.step(item)
    if step is None or not step.on:
        return []
    picture, matte = (step.inputs.get(port) for port in _PORTS[step.op])
    if not isinstance(picture, str) or not isinstance(matte, str):
        return []
    blurred = [name for name in _with(plan, picture) if _is(plan, name, "defocus")]
    if not blurred or any(_is(plan, name, "defocus") for name in _with(plan, matte)):
        return []
    lens = plan.recipe.step(blurred[0])
    assert lens is not None
    text = f"{matte} was cut from the sharp picture, and {lens.name} blurred what it lies on"
    soft = {
        "name": f"{split_address(matte)[0]}_soft",
        "op": "defocus",
        "in": dict(lens.inputs) | {"picture": matte},
        **({"set": dict(lens.settings)} if lens.settings else {}),
    }
    port = _PORTS[step.op][1]
    remedy = {
        "label": f"The same lens for {matte}",
        "steps": [soft],
        "feed": {"port": port, "address": soft["name"]},
    }
    return [{"code": "sharp_matte", "text": text, "remedy": remedy}]


_PORTS = {"stack": ("over", "matte"), "grade": ("picture", "matte"), "attach_alpha": ("picture", "alpha")}


@check("space", "id_pick")
def check_ids(engine: Engine, plan: Plan, item: str) -> Warnings:
    """Warnings about ids: a manifest that does not match, numbers stored as halves."""
    step = plan.recipe.step(item)
    address = step.inputs.get("ids") if step and step.on else None
    if not isinstance(address, str):
        return []
    description = plan.feed(address).description
    warnings: Warnings = [
        {"code": "manifest", "text": f"{layer.name}: {layer.problem}", "remedy": None}
        for layer in id_layers(description.metadata).values()
        if layer.problem
    ]
    if description.is_plane and description.trait(description.channels[0]).samples == "half":
        text = f"The numbers in {address} were stored as halves: above 2048 they are not whole any more"
        warnings.append({"code": "half_ids", "text": text, "remedy": None})
    return warnings


def _is(plan: Plan, name: str, op: str) -> bool:
    step = plan.recipe.step(name)
    return step is not None and step.on and step.op == op


def _upstream(plan: Plan, item: str) -> list[str]:
    """Steps that an item is made of, the nearest first."""
    found: list[str] = []
    waiting = [item]
    while waiting:
        step = plan.recipe.step(waiting.pop(0))
        for address in addresses_of(step) if step else ():
            name = split_address(address)[0]
            if name not in found:
                found.append(name)
                waiting.append(name)
    return found


def _with(plan: Plan, address: str) -> list[str]:
    name = split_address(address)[0]
    return [name, *_upstream(plan, name)]
