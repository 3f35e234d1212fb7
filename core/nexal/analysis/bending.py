"""Sources whose numbers are meant and which are read as encoded colour: their values arrive bent."""

from __future__ import annotations

from nexal.addresses import split_address
from nexal.engine import Plan
from nexal.engine.plan import addresses_of
from nexal.errors import NexalError
from nexal.formats.reading import StoredSource
from nexal.operations import find, parse_settings
from nexal.recipe import Step
from nexal.session import sources_behind

AS_THEY_ARE = frozenset({"bay", "pack", "logic", "grow", "despeckle"})
"""Operations that take values as they are, for what is no colour: light that comes in is taken for values. Others
either keep colour as colour, or judge it as it is seen, which brings back the values of the file."""
BY_NUMBERS = frozenset({"formula", "arithmetic"})
"""Operations on numbers as they are, which may keep colour as colour."""
IN_DOMAIN = frozenset({"cross", "stretch", "threshold"})
"""Operations that work on numbers as they are where they are set to the domain of the scene."""


def bent_sources(plan: Plan, item: str) -> dict[str, str]:
    """Sources behind an item, with the address at which their light is first taken for values.

    Followed through bays, masks and any other steps, to any depth.
    """
    found: dict[str, str] = {}
    seen: set[str] = set()
    waiting = [item]
    while waiting:
        step = plan.recipe.step(waiting.pop())
        if step is None or step.name in seen or not step.on:
            continue
        seen.add(step.name)
        for address in _taken_as_values(plan, step):
            for source in _bent(plan, address):
                found.setdefault(source, address)
        waiting += [split_address(address)[0] for address in addresses_of(step)]
    return found


def _taken_as_values(plan: Plan, step: Step) -> list[str]:
    """The addresses whose numbers a step takes for values, whatever they are."""
    if step.op in AS_THEY_ARE:
        # A picture that gets a grown matte stays a picture.
        pictures = {port.name for port in find(step.op).ports if port.kind == "picture"}
        colour = {fed for port, fed in step.inputs.items() if port in pictures and isinstance(fed, str)}
        return [address for address in laid(step) if address not in colour]
    if step.op in BY_NUMBERS or (step.op in IN_DOMAIN and step.settings.get("domain") == "scene"):
        return laid(step) if _makes_data(plan, step.name) else []
    if step.op == "attach_alpha":
        return [alpha] if isinstance(alpha := step.inputs.get("alpha"), str) else []
    if step.op == "route":
        routed = parse_settings(find("route"), step.settings)
        fed = find("route").references(routed)
        return [address for port, address in fed.items() if _makes_data(plan, step.name, port.partition(".")[2])]
    return []


def _makes_data(plan: Plan, item: str, channel: str | None = None) -> bool:
    """Whether a channel of an item, or all that it has, is data; what has a fault makes none."""
    try:
        description = plan.feed(item).description
    except NexalError:
        return False
    return channel in description.data if channel else description.all_data


def laid(step: Step) -> list[str]:
    """What goes into a step's values: not the picture whose size alone is taken."""
    operation = find(step.op)
    ports: list[str] = []
    for port, fed in step.inputs.items():
        if port != "like":
            ports += [fed] if isinstance(fed, str) else fed
    return list(dict.fromkeys([*ports, *operation.references(parse_settings(operation, step.settings)).values()]))


def _bent(plan: Plan, address: str) -> list[str]:
    """The sources that an address of colour depends on and that are read as encoded; none of what is data."""
    try:
        if not plan.feed(address).description.colour:
            return []
    except NexalError:
        return []
    sources = sources_behind(plan.recipe, [address])
    return [
        name
        for name in sources
        if isinstance(reader := plan.readers.get(name), StoredSource) and reader.space == "srgb"
    ]
