"""From a recipe to a graph of nodes: every item described, every input resolved and checked, every result keyed."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from fractions import Fraction
from functools import cache, cached_property
from typing import Any, Protocol

from nexal.addresses import select, split_address
from nexal.errors import NexalError, RecipeError, SourceError, nearest
from nexal.keyed import settings_at
from nexal.operations import Operation, Settings, find, parse_settings
from nexal.operations.base import Kind, Port
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window
from nexal.recipe import Recipe, Step

PORT_NAME = re.compile(r"[a-z_][a-z0-9_]*")


class Reader(Protocol):
    """A source at one frame: what it is, and its planes at a scale."""

    @property
    def digest(self) -> str:
        """Changes whenever a pixel or the way of reading changes."""

    @property
    def description(self) -> Description: ...

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        """Float32 planes over exactly `region`, which lies inside the scaled data window."""


@dataclass(frozen=True, eq=False)
class Feed:
    """An input of a node: a node, and which of its channels come under which names."""

    node: Node
    channels: Mapping[str, str]
    description: Description


@dataclass(frozen=True, eq=False)
class Node:
    """One result: a source read, an operation over its feeds, or (with neither) a feed passed on."""

    item: str
    digest: str
    description: Description
    reader: Reader | None = None
    operation: Operation | None = None
    settings: Settings | None = None
    feeds: Mapping[str, Feed] | None = None

    @property
    def inputs(self) -> dict[str, Description]:
        return {port: feed.description for port, feed in (self.feeds or {}).items()}


# Made once: a plan writes a text for each step.
_TEXT = json.JSONEncoder(sort_keys=True, default=str, separators=(",", ":"))


def _digest(*parts: Any) -> str:
    return hashlib.blake2b(_TEXT.encode(parts).encode(), digest_size=16).hexdigest()


def _measures(description: Description) -> list[Any]:
    """What a description says without its pixels."""
    alpha, data = description.alpha.value, sorted(description.data)
    return [description.channels, description.display, description.window, alpha, data, description.origin]


def resolve(node: Node, rest: str) -> Feed:
    """What an address names in a node. A single channel by its exact name is a plane."""
    description = node.description
    try:
        channels = select(rest, description.channels, node.item)
    except NexalError as error:
        number = getattr(node.reader, "number", None)
        if number is not None:
            # Frames may differ in what they hold.
            error.message += f", in its frame {number}"
        raise
    if not rest:
        return Feed(node, channels, description)
    data = frozenset(name for name, own in channels.items() if own in description.data)
    if rest in description.channels:
        plane = description.as_plane(data=bool(data), trait=description.trait(rest))
        return Feed(node, {PLANE_NAME: rest}, plane.changed(alpha=description.alpha))
    if ALPHA_NAME in channels:
        data |= {ALPHA_NAME}
    traits = {name: description.trait(own) for name, own in channels.items()}
    chosen = description.changed(channels=tuple(channels), data=data, traits=traits)
    return Feed(node, channels, chosen if chosen.has_alpha else chosen.changed(alpha=Alpha.NONE))


def origin(feed: Feed, name: str) -> tuple[Reader, str] | None:
    """The source and its channel that a channel of a feed is, sample for sample; None where it is made anew."""
    while True:
        node, name = feed.node, feed.channels[name]
        if node.reader is not None:
            return node.reader, name
        assert node.feeds is not None
        if node.operation is None:
            feed = node.feeds["from"]
            continue
        found = node.operation.untouched(name, node.inputs, node.settings)
        if found is None:
            return None
        feed, name = node.feeds[found[0]], found[1]


def as_kind(feed: Feed, kind: Kind, address: str, port: str) -> Feed:
    """The feed as its port wants it: a plane is a picture's only channel, else its A, else an error."""
    if kind != "plane" or feed.description.is_plane:
        return feed
    names = feed.description.channels
    chosen = names[0] if len(names) == 1 else ALPHA_NAME
    if chosen not in names:
        raise RecipeError(
            f"a plane is wanted, and '{address}' is a picture with {', '.join(names[:6])} and no alpha",
            where=f"port '{port}'",
            remedy=f"name a channel, such as {address}.{names[0]}, or weigh it into one",
        )
    plane = feed.description.as_plane(data=chosen in feed.description.data, trait=feed.description.trait(chosen))
    return Feed(feed.node, {PLANE_NAME: feed.channels[chosen]}, plane)


DEEPEST = 60
"""Steps that are compiled inside of each other at the most: of a longer chain the far end comes first."""


class _TooDeep(Exception):
    def __init__(self, item: str) -> None:
        super().__init__(item)
        self.item = item


class Plan:
    """The nodes of a recipe at one frame. Items are compiled when asked for, each with what it needs only."""

    def __init__(
        self,
        recipe: Recipe,
        frame: int,
        readers: Mapping[str, Reader],
        absent: Mapping[str, NexalError] | None = None,
    ) -> None:
        """`absent` tells of sources that have no reader why, where more is known than that."""
        self.recipe = recipe
        self.frame = frame
        self.readers = readers
        self.absent = absent or {}
        self.inputs: dict[str, list[str]] = {}
        """The addresses that each compiled step is fed from, in ports and settings."""
        self._steps = {step.name: step for step in recipe.steps}
        # Sources stand above all steps.
        self._places = {name: place for place, name in enumerate(recipe.items())}
        self._feeds: dict[str, Feed] = {}
        self._nodes: dict[str, Node | NexalError] = {}
        self._depth = 0

    @cached_property
    def digest(self) -> str:
        """Changes whenever what is told of an item may: with the recipe, the frame, and what its sources are."""
        read = {
            name: (
                reader.digest,
                getattr(reader, "number", None),
                _measures(reader.description),
                reader.description.inks,
            )
            for name, reader in self.readers.items()
        }
        absent = {
            name: [(each.code, str(each), each.remedy) for each in (error, *error.also)]
            for name, error in self.absent.items()
        }
        return _digest(self.recipe.model_dump_json(), self.frame, read, absent)

    def node(self, item: str) -> Node:
        """Raises NexalError, placed at the source or step where the fault lies."""
        if self._depth:
            return self._node(item)
        waiting = [item]
        while True:
            try:
                node = self._node(waiting[-1])
            except _TooDeep as deep:
                waiting.append(deep.item)
            except NexalError:
                if len(waiting) == 1:
                    raise
                # It is told by what asked for it.
                waiting.pop()
            else:
                waiting.pop()
                if not waiting:
                    return node

    def _node(self, item: str) -> Node:
        known = self._nodes.get(item)
        if known is None:
            if self._depth >= DEEPEST:
                raise _TooDeep(item)
            self._depth += 1
            try:
                known = self._compile(item)
            except NexalError as error:
                known = error
            finally:
                self._depth -= 1
            self._nodes[item] = known
        if isinstance(known, NexalError):
            raise known
        return known

    def feed(self, address: str) -> Feed:
        known = self._feeds.get(address)
        if known is None:
            item, rest = split_address(address)
            known = self._feeds[address] = resolve(self.node(item), rest)
        return known

    def picture(self, channels: Mapping[str, str]) -> Feed:
        """A picture put together of one address for each destination channel.

        Raises RecipeError where one is a picture of several channels: none of them is meant by itself.
        """
        for name, address in channels.items():
            description = self.feed(address).description
            if not description.is_plane and len(description.channels) > 1:
                first = description.channels[0]
                raise RecipeError(
                    f"'{address}' is a picture of {len(description.channels)} channels, and one is wanted",
                    where=f"channel '{name}'",
                    remedy=f"name one of them, such as {address}.{first}, or several channels for the picture",
                )
        settings = {"to": {name: {"from": address} for name, address in channels.items()}}
        step = Step.model_validate({"name": "assembled", "op": "route", "set": settings})
        node = self._operate(step, find("route"), above_all=True)
        return Feed(node, {name: name for name in node.description.channels}, node.description)

    def inspect(self) -> dict[str, Node | NexalError]:
        """Every item with its node, or with what is wrong with it."""
        for item in self.recipe.items():
            try:
                self.node(item)
            except NexalError:
                continue
        return dict(self._nodes)

    def _compile(self, item: str) -> Node:
        if item in self.recipe.sources:
            reader = self.readers.get(item)
            if reader is None:
                if item in self.absent:
                    raise self.absent[item].at(f"source '{item}'")
                raise SourceError("is not there", where=f"source '{item}'", remedy="import its file")
            return Node(item, _digest("source", reader.digest), reader.description, reader=reader)
        step = self._steps.get(item)
        if step is None:
            raise RecipeError(
                f"there is no source or step '{item}'", where="recipe", remedy=nearest(item, self.recipe.items())
            )
        try:
            return self._operate(step, find(step.op))
        except NexalError as error:
            # An error of something above is told where it arose.
            raise error if error.where.startswith(("step '", "source '")) else error.at(f"step '{item}'") from None

    def _operate(self, step: Step, operation: Operation, *, above_all: bool = False) -> Node:
        settings = parse_settings(operation, settings_at(step.settings, self.frame))
        settings = operation.at_frame(settings, self.frame)
        addresses = _port_addresses(step, operation)
        references = operation.references(settings)
        if not above_all:
            self._check_above(step, [*addresses.values(), *references.values()])
            self.inputs[step.name] = [*addresses.values(), *references.values()]
        kinds: dict[str, Kind] = {port.name: port.kind for port in _ports_of(operation).values()}
        kinds |= {port: operation.referenced_kind(port) for port in references}
        free = operation.free_ports or "any"
        feeds = {
            port: as_kind(self.feed(address), kinds.get(port.partition(".")[0], kinds.get(port, free)), address, port)
            for port, address in {**addresses, **references}.items()
        }
        if not step.on:
            return self._passed(step, operation, feeds)
        feeds |= self._resampled(step.name, operation, settings, feeds)
        parts = operation.unfold(settings)
        if len(parts) > 1:
            # A fault is told by its place in the whole, not in the part that it falls into.
            operation.describe({port: feed.description for port, feed in feeds.items()}, settings)
        for part in parts:
            node = self._applied(step.name, operation, part, feeds)
            if operation.ports:
                feeds = feeds | {operation.ports[0].name: resolve(node, "")}
        return node

    def _check_above(self, step: Step, addresses: Iterable[str]) -> None:
        """Raises RecipeError where a step's input is unknown, is the step itself, or stands below it."""
        own = self._places[step.name]
        for address in addresses:
            item, _ = split_address(address)
            place = self._places.get(item)
            if place is None:
                above = list(self._places)[:own]
                raise RecipeError(f"there is no source or step '{item}'", remedy=nearest(item, above))
            if place >= own:
                raise RecipeError(
                    f"'{item}' is made by this step itself or below it, which would go round in a circle",
                    remedy=f"move '{item}' above '{step.name}' or feed it from something above",
                )

    def _resampled(
        self, item: str, operation: Operation, settings: Settings, feeds: Mapping[str, Feed]
    ) -> dict[str, Feed]:
        """The inputs that an operation wants in another size, in that size."""
        found = {}
        inputs = {port: feed.description for port, feed in feeds.items()}
        for port, size in operation.sizes(inputs, settings).items():
            resize = find("resize")
            chosen = parse_settings(resize, asdict(size))
            found[port] = resolve(self._applied(item, resize, chosen, {"from": feeds[port]}), "")
        return found

    def _applied(self, item: str, operation: Operation, settings: Settings, feeds: Mapping[str, Feed]) -> Node:
        inputs = {port: feed.description for port, feed in feeds.items()}
        description = operation.describe(inputs, settings)
        traits = {name: operation.trait(name, inputs, settings, description) for name in description.channels}
        description = description.changed(traits=traits)
        # Of what is only measured, such as the picture whose size is taken, the pixels make no difference.
        read = operation.needed(description.channels, inputs, settings)
        digest = _digest(
            operation.name,
            operation.version,
            settings.model_dump_json(by_alias=True),
            {
                port: (feed.node.digest, list(feed.channels.items())) if read.get(port) else _measures(feed.description)
                for port, feed in feeds.items()
            },
            self.frame if operation.timed(settings) else None,
        )
        return Node(item, digest, description, operation=operation, settings=settings, feeds=feeds)

    @staticmethod
    def _passed(step: Step, operation: Operation, feeds: Mapping[str, Feed]) -> Node:
        if not feeds:
            raise RecipeError(f"'{operation.name}' has no input to pass on", remedy="turn the step on, or remove it")
        feed = next(iter(feeds.values()))
        digest = _digest("pass", feed.node.digest, list(feed.channels.items()))
        return Node(step.name, digest, feed.description, feeds={"from": feed})


@cache
def _ports_of(operation: Operation) -> dict[str, Port]:
    return {port.name: port for port in operation.ports}


def _port_addresses(step: Step, operation: Operation) -> dict[str, str]:
    """The address at each port, in the operation's order; those of a list port come as `port.0`, `port.1`...

    Raises RecipeError for unknown, missing or wrong ports.
    """
    known = _ports_of(operation)
    if operation.free_ports is not None:
        known = known | {name: Port(name, operation.free_ports) for name in step.inputs if PORT_NAME.fullmatch(name)}
    found: dict[str, str] = {}
    for name, value in step.inputs.items():
        if name not in known:
            remedy = nearest(name, known) if known else "write lower case letters, digits and _, a letter first"
            raise RecipeError(f"'{operation.name}' has no port '{name}'", where=f"port '{name}'", remedy=remedy)
        if isinstance(value, str) == known[name].many:
            wanted = "a list of addresses" if known[name].many else "one address, not a list"
            raise RecipeError(f"takes {wanted}", where=f"port '{name}'", remedy=f"give {wanted.partition(',')[0]}")
    for name, port in known.items():
        given = step.inputs.get(name)
        if port.required and not given:
            raise RecipeError(f"port '{name}' is not fed", where=f"port '{name}'", remedy="give it an address")
        if isinstance(given, str):
            found[name] = given
        elif given:
            found |= {f"{name}.{index}": address for index, address in enumerate(given)}
    return found


def addresses_of(step: Step) -> list[str]:
    """Every address that a step names, in ports and settings, as far as its settings can be understood."""
    found = list(_flat(step.inputs.values()))
    try:
        operation = find(step.op)
        found += operation.references(parse_settings(operation, settings_at(step.settings, 0))).values()
    except NexalError:
        pass
    return found


def _flat(values: Iterable[str | list[str]]) -> Iterable[str]:
    for value in values:
        if isinstance(value, str):
            yield value
        else:
            yield from value
