"""What is likely wrong with a bay or a packed texture, each with a remedy of one click where there is one."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from nexal.addresses import split_address
from nexal.analysis.bending import bent_sources, laid
from nexal.analysis.checking import check, remedy_kind
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.errors import NexalError
from nexal.layouts import default_of
from nexal.operations import find, parse_settings
from nexal.operations.packing import PORTS, BaySettings, Meaning, PackSettings
from nexal.picture import ALPHA_NAME, Plane
from nexal.recipe import Step

GLOSSY = re.compile(r"gloss|smooth|shin", re.IGNORECASE)
"""What a channel is called that holds the opposite of roughness."""
ROUGH = re.compile(r"rough", re.IGNORECASE)
CALLED = {
    "occlusion": re.compile(r"occl|(^|_)ao(_|$)", re.IGNORECASE),
    "roughness": ROUGH,
    "metallic": re.compile(r"metal", re.IGNORECASE),
    "coat": re.compile(r"coat|varnish|lacquer", re.IGNORECASE),
}
"""What planes are called that hold a meaning; those of other meanings are called like it."""
FLAT = 1e-6
METAL, TURNED = 0.5, 0.3
"""What counts as metal, and how much rougher than all else it has to be to look turned round."""

remedy_kind("change", "change")
"""Another `op`, `in`, `set` or `on` for other steps, by name."""


@check("packing", "bay", "pack")
def check_packing(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """Warnings about a `bay` or `pack` step: `code`, `text`, and a `remedy` or none.

    - a source that is read as sRGB-encoded colour where its numbers are meant, however many steps lie between
    - planes of another size, and how they are resampled; bars that are not, being only put at the corner
    - a bar that covers everything below it, and what is lost by that
    - roughness that looks inverted, by its name or by metal that is much rougher than the rest
    - alpha at 0 everywhere, channels that are empty or equal to another
    - a size that blocks of 4 x 4 or halving do not fit
    """
    step = plan.recipe.step(item)
    if step is None or not step.on or step.op not in ("bay", "pack"):
        return []
    found = _encoded(plan, step) + _sizes(plan, step) + _covered(step)
    if step.op == "pack":
        settings = parse_settings(find("pack"), step.settings)
        assert isinstance(settings, PackSettings)
        planes = _planes(engine, plan, item)
        found += _named_wrong(plan, step, settings) or _metal_rougher(step, settings, planes)
        found += _empty(engine, plan, step, settings, planes) + _equal(step, planes) + _side(plan, step)
    return found


def _encoded(plan: Plan, step: Step) -> list[dict[str, Any]]:
    odd = bent_sources(plan, step.name)
    if not odd:
        return []
    return [
        {
            "code": "encoded_data",
            "text": f"{', '.join(odd.values())} is read as sRGB-encoded colour: its numbers are bent on the way in",
            "remedy": {"label": f"Read {', '.join(odd)} as data", "read": dict.fromkeys(odd, "data")},
        }
    ]


def _sizes(plan: Plan, step: Step) -> list[dict[str, Any]]:
    own = plan.feed(step.name).description.display
    others = {}
    for address in laid(step):
        size = plan.feed(address).description.display
        if (size.width, size.height) != (own.width, own.height):
            others[address] = size
    if not others:
        return []
    known = ", ".join(f"{name} is {size.width} x {size.height}" for name, size in others.items())
    if step.op == "bay" and step.settings.get("fit", "align") == "align":
        return [
            {
                "code": "sizes",
                "text": f"{known}, the bay {own.width} x {own.height}: it lies at the top left corner as it is",
                "remedy": {
                    "label": "Scale it to the bay",
                    "replace": {"set": dict(step.settings) | {"fit": "scale"}},
                },
            }
        ]
    grown = any(size.width < own.width or size.height < own.height for size in others.values())
    shrunk = any(size.width > own.width or size.height > own.height for size in others.values())
    ways = " and ".join(text for text, used in (("grown by Lanczos", grown), ("shrunk by areas", shrunk)) if used)
    what = "the bay" if step.op == "bay" else "the texture"
    return [{"code": "sizes", "text": f"{known}, {what} {own.width} x {own.height}: {ways}", "remedy": None}]


def _whole(settings: BaySettings) -> list[int]:
    """Bars that leave nothing of what is below them."""
    return [
        index
        for index, bar in enumerate(settings.layers)
        if bar.on and bar.mask is None and bar.opacity == 1 and bar.mode == "normal"
    ]


def _covered(step: Step) -> list[dict[str, Any]]:
    settings = parse_settings(find(step.op), step.settings)
    if not isinstance(settings, BaySettings):
        return []
    whole = _whole(settings)
    if not whole:
        return []
    cover = whole[-1]
    lost = [bar for bar in settings.layers[:cover] if bar.on and bar.opacity > 0]
    if not lost:
        return []
    top = settings.layers[cover]
    name = top.source if top.source is not None else f"{top.value:.0%}"
    names = ", ".join(dict.fromkeys(str(bar.source or bar.mask or f"{bar.value:.0%}") for bar in lost))
    layers = step.settings["layers"]
    under = [layers[cover], *(layer for index, layer in enumerate(layers) if index != cover)]
    return [
        {
            "code": "covered",
            "text": f"{name} covers everything below it: {names} is lost",
            "remedy": {"label": "Put it below them", "replace": {"set": dict(step.settings) | {"layers": under}}},
        }
    ]


def _planes(engine: Engine, plan: Plan, address: str) -> dict[str, Plane]:
    feed = plan.feed(address)
    scale = scale_within(feed.description.display, 512)
    return dict(engine.evaluate(feed, plan, scale=scale, looked_at=True, patient=False).planes)


def _port_of(settings: PackSettings, meaning: str) -> tuple[str, bool] | None:
    for port, each in settings.meanings.items():
        if each.meaning == meaning:
            return port, each.inverted
    return None


def _named_wrong(plan: Plan, step: Step, settings: PackSettings) -> list[dict[str, Any]]:
    """Gloss where roughness is meant, or the other way round, by what the planes laid in are called."""
    found = _port_of(settings, "roughness")
    address = step.inputs.get(found[0]) if found else None
    if not found or not isinstance(address, str):
        return []
    bay = plan.recipe.step(split_address(address)[0])
    names = laid(bay) if bay and bay.op == "bay" else [address]
    wrong = ROUGH if found[1] else GLOSSY
    sources = [each for each in names if plan.recipe.step(split_address(each)[0]) is None]
    odd = next((each for each in sources if wrong.search(each)), None)
    if odd is None:
        return []
    kinds = ("roughness", "gloss") if found[1] else ("gloss", "roughness")
    return [
        {
            "code": "inverted",
            "text": f"{odd} is {kinds[0]} by its name, and {kinds[1]} is wanted here",
            "remedy": {
                "label": "Turn it round",
                "steps": [{"name": kinds[1], "op": "invert", "in": {"from": odd}}],
                "within": bay.name if bay and bay.op == "bay" else step.name,
                "instead": odd,
            },
        }
    ]


def _metal_rougher(step: Step, settings: PackSettings, planes: dict[str, Plane]) -> list[dict[str, Any]]:
    """Metal that is far rougher than all else: rare in truth, usual where gloss was taken for roughness."""
    rough, metal = _port_of(settings, "roughness"), _port_of(settings, "metallic")
    if rough is None or metal is None:
        return []
    values = []
    for port, inverted in (rough, metal):
        plane = planes[PORTS[port]]
        values.append(1 - plane if inverted else plane)
    inside = values[1] > METAL
    share = float(inside.mean())
    if not 0.01 < share < 0.99:
        return []
    gap = float(values[0][inside].mean() - values[0][~inside].mean())
    if gap < TURNED:
        return []
    return [
        {
            "code": "inverted",
            "text": f"Metal is rougher than all else by {gap:.0%}: is this gloss, not roughness?",
            "remedy": {
                "label": "Turn it round",
                "steps": [{"name": "turned", "op": "invert", "in": {"from": step.inputs[rough[0]]}}],
                "feed": {"port": rough[0], "address": "turned"},
            },
        }
    ]


def _empty(
    engine: Engine, plan: Plan, step: Step, settings: PackSettings, planes: dict[str, Plane]
) -> list[dict[str, Any]]:
    found = []
    unknown = []
    meanings: dict[str, Meaning] = {str(port): meant for port, meant in settings.meanings.items()}
    for port, name in PORTS.items():
        if name not in planes or float(np.abs(planes[name]).max()) > FLAT:
            continue
        if name == ALPHA_NAME:
            found.append(_clear_alpha(plan, step))
            continue
        meant = meanings.get(port)
        label = f"{name} ({meant.meaning})" if meant else name
        remedy = _filled(engine, plan, step, port, meant) if meant else None
        if remedy:
            found.append({"code": f"empty_{name}", "text": f"{label} is 0 everywhere", "remedy": remedy})
        else:
            unknown.append(label)
    if unknown:
        verb = "is" if len(unknown) == 1 else "are"
        text = f"{', '.join(unknown)} {verb} 0 everywhere; lay something in unless that is meant"
        found.append({"code": "empty", "text": text, "remedy": None})
    return found


def _filled(engine: Engine, plan: Plan, step: Step, port: str, meant: Meaning) -> dict[str, Any] | None:
    """What belongs into an empty channel: a plane called like its meaning, else what the meaning begins with."""
    address = str(step.inputs[port])
    bay = plan.recipe.step(address)
    if bay is None or bay.op != "bay":
        named = None if meant.inverted else _named_like(engine, plan, step.name, meant.meaning)
        return {"label": f"Feed it {named}", "feed": {"port": port, "address": named}} if named else None
    settings = parse_settings(find("bay"), bay.settings)
    assert isinstance(settings, BaySettings)
    if _whole(settings):
        return None
    named = None if meant.inverted else _named_like(engine, plan, bay.name, meant.meaning)
    if named and named not in laid(bay):
        changed = dict(bay.settings) | {"layers": [*bay.settings.get("layers", []), {"from": named}]}
        return {"label": f"Lay {named} in", "change": {bay.name: {"set": changed}}}
    begins = default_of(meant.meaning)
    value = 1 - begins if meant.inverted else begins
    if value == 0:
        return None
    changed = dict(bay.settings) | {"base": value}
    return {"label": f"Fill it at {value:.0%}".replace("%", " %"), "change": {bay.name: {"set": changed}}}


def _named_like(engine: Engine, plan: Plan, below: str, meaning: str) -> str | None:
    """The first plane above a step that is called like a meaning and holds something."""
    pattern = CALLED.get(meaning) or re.compile(re.escape(meaning), re.IGNORECASE)
    items = plan.recipe.items()
    for item in items[: items.index(below)]:
        try:
            described = plan.node(item).description
        except NexalError:
            continue
        alone = described.is_plane or len(described.channels) == 1
        addresses = [item] if alone else [f"{item}.{channel}" for channel in described.channels]
        for address in addresses:
            if pattern.search(address if alone else address.partition(".")[2]) and _holds(engine, plan, address):
                return address
    return None


def _holds(engine: Engine, plan: Plan, address: str) -> bool:
    """Whether a plane is more than 0; what cannot be told now does not count."""
    try:
        planes = _planes(engine, plan, address)
    except NexalError:
        return False
    return all(float(np.abs(plane).max()) > FLAT for plane in planes.values())


def _clear_alpha(plan: Plan, step: Step) -> dict[str, Any]:
    address = step.inputs["a"]
    bay = plan.recipe.step(str(address))
    text = "Alpha is 0 everywhere: most programs will show nothing at all"
    if bay is not None and bay.op == "bay":
        change = {"label": "Fill alpha at 100 %", "change": {bay.name: {"set": dict(bay.settings) | {"base": 1.0}}}}
        return {"code": "alpha_zero", "text": text, "remedy": change}
    inputs = {port: fed for port, fed in step.inputs.items() if port != "a"}
    meanings = {port: each for port, each in step.settings.get("meanings", {}).items() if port != "a"}
    settings = dict(step.settings) | ({"meanings": meanings} if "meanings" in step.settings else {})
    leave = {"label": "Leave alpha out", "replace": {"in": inputs, "set": settings}}
    return {"code": "alpha_zero", "text": text, "remedy": leave}


def _equal(step: Step, planes: dict[str, Plane]) -> list[dict[str, Any]]:
    names = [name for name, plane in planes.items() if float(plane.max()) - float(plane.min()) > FLAT]
    for index, name in enumerate(names):
        for other in names[index + 1 :]:
            if np.array_equal(planes[name], planes[other]):
                port = next(port for port, channel in PORTS.items() if channel == other)
                fresh = {"name": f"{port}_bay", "op": "bay", "in": {"like": str(step.inputs[port])}}
                return [
                    {
                        "code": f"equal_{other}",
                        "text": f"{other} holds the same as {name}",
                        "remedy": {
                            "label": f"Give {other} a bay of its own",
                            "steps": [fresh],
                            "feed": {"port": port, "address": fresh["name"]},
                        },
                    }
                ]
    return []


def _side(plan: Plan, step: Step) -> list[dict[str, Any]]:
    size = plan.feed(step.name).description.display
    sides = (size.width, size.height)
    if all(side & (side - 1) == 0 for side in sides):
        return []
    if any(side % 4 for side in sides):
        fitting = [max(4, round(side / 4) * 4) for side in sides]
        text = f"{size.width} x {size.height} is no multiple of four: blocks of 4 x 4 do not fit"
    else:
        fitting = [2 ** max(2, round(float(np.log2(side)))) for side in sides]
        text = f"{size.width} x {size.height} is no power of two: mip levels do not halve evenly"
    return [
        {
            "code": "side",
            "text": text,
            "remedy": {
                "label": f"Make it {fitting[0]} x {fitting[1]}",
                "replace": {"set": dict(step.settings) | {"width": fitting[0], "height": fitting[1]}},
            },
        }
    ]
