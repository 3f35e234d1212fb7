"""Point operations that follow each other: recorded as one program, which is run in one pass over their pixels."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np

from nexal.engine.plan import Node
from nexal.kernels.instructions import Op
from nexal.kernels.recording import NotRecorded, Program, Recording
from nexal.operations import PointOperation, Scene
from nexal.picture import Plane

Key = tuple[str, str]
"""A channel of a node, by the node's digest."""


@dataclass(frozen=True, eq=False)
class Chain:
    """Point operations in the order that they follow each other, what is wanted of each, and what enters them."""

    nodes: Sequence[Node]
    wanted: Mapping[str, tuple[str, ...]]
    entering: Sequence[tuple[Node, tuple[str, ...]]]


class Unrecorded(Exception):
    """An operation of a chain that only NumPy can do."""

    def __init__(self, node: Node) -> None:
        super().__init__(node.item)
        self.node = node


@dataclass(frozen=True)
class _Scene(Scene):
    """A scene whose pixels are not there yet."""

    recording: Recording = field(default_factory=Recording)

    @property
    def x(self) -> Plane:
        return cast(Any, self.recording.place(Op.X))

    @property
    def y(self) -> Plane:
        return cast(Any, self.recording.place(Op.Y))


def recorded(chain: Chain, channels: Sequence[str], scene: Scene) -> Program:
    """What the chain does for the channels of its last node. Raises Unrecorded."""
    recording = Recording()
    values: dict[Key, Any] = {}
    for node, names in chain.entering:
        for name in names:
            if node.description.sample_type(name) is np.float32:
                values[node.digest, name] = recording.input((node.digest, name))
    for node in chain.nodes:
        operation, names = node.operation, chain.wanted[node.digest]
        assert isinstance(operation, PointOperation)
        own = _Scene(scene.frame, scene.scale, scene.region, node.inputs, scene.work, recording)
        try:
            made = operation.applied(_inputs(node, names, values), node.settings, own)
            values.update({(node.digest, name): recording.value(made[name]) for name in names})
        except (NotRecorded, TypeError, AttributeError):
            # The latter where it asks a value for what only arrays have; what is truly wrong, NumPy's way tells too.
            raise Unrecorded(node) from None
    last = chain.nodes[-1]
    return recording.program([values[last.digest, name] for name in channels])


def plainly(node: Node, names: Sequence[str], planes: Mapping[Key, Plane], scene: Scene) -> Mapping[str, Any]:
    """What one point operation makes of planes over the scene's region, by NumPy."""
    assert isinstance(node.operation, PointOperation)
    return node.operation.applied(_inputs(node, names, planes), node.settings, scene)


def wanted_of(node: Node, names: Sequence[str]) -> dict[str, dict[str, tuple[Node, str]]]:
    """For each port of a node, the channels that it wants there, and the node and channel that each comes from."""
    assert node.operation is not None
    assert node.feeds is not None
    feeds = node.feeds
    wanted = node.operation.needed(names, node.inputs, node.settings)
    return {
        port: {name: (feeds[port].node, feeds[port].channels[name]) for name in own} for port, own in wanted.items()
    }


def _inputs(node: Node, names: Sequence[str], values: Mapping[Key, Any]) -> dict[str, dict[str, Any]]:
    """What a node takes of values. Raises NotRecorded where one is none that can be recorded."""
    result: dict[str, dict[str, Any]] = {}
    for port, channels in wanted_of(node, names).items():
        result[port] = {}
        for name, (source, channel) in channels.items():
            if (source.digest, channel) not in values:
                raise NotRecorded(f"{name} holds ids")
            result[port][name] = values[source.digest, channel]
    return result
