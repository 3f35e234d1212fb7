"""What an evaluation will take, found from its plan alone, before a pixel is computed.

The graph is walked as the evaluation walks it: which region of which channels each result is asked for, what an
operation takes for each of their samples (`Operation.effort`, `Operation.scratch`), and which planes are alive at once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction

from nexal.engine.plan import Feed, Node
from nexal.kernels.mixing import with_alphas
from nexal.operations import PointOperation, Scene
from nexal.picture import Window
from nexal.work import Cost, Work

SAMPLE_BYTES = 4
READ_NS = 2.0
"""What a sample takes that comes in: from a source, or into an operation."""
FULL = Fraction(1)


@dataclass
class _Demand:
    """A region of a node at a scale: what is asked of it, what it asks in turn, and what it costs."""

    node: Node
    region: Window
    scale: Fraction
    channels: set[str] = field(default_factory=set)
    inputs: list[_Demand] = field(default_factory=list)
    own: float = 0.0
    peak: float = 0.0

    @property
    def bytes(self) -> float:
        return SAMPLE_BYTES * self.region.area * len(self.channels)


Held = Callable[[Node, tuple[str, ...], Window, Fraction], bool]
"""Whether channels of a node are there over a region at a scale."""
_Key = tuple[str, Window, Fraction]


def cost_of(
    feed: Feed,
    channels: tuple[str, ...],
    region: Window,
    frame: int,
    scale: Fraction,
    patient: bool,
    held: Held,
    rough: frozenset[str] = frozenset(),
) -> Cost:
    """What it takes to evaluate channels of a feed over a region at a scale.

    `patient` tells whether slow results are waited for, `held` what need not be computed, `rough` which nodes are
    computed as they come.
    """
    order = outputs_first(feed.node)
    found: dict[str, dict[_Key, _Demand]] = {node.digest: {} for node in order}

    def demand(node: Node, names: set[str], region: Window, scale: Fraction) -> _Demand | None:
        # What lies beyond the data window is 0.
        window = node.description.window.scaled(scale)
        inner = region.intersect(window)
        if inner.empty or not names:
            return None
        operation = node.operation
        if operation is not None and operation.slow and node.digest not in rough:
            # Computed in full resolution, proxies are reduced from there.
            if scale != FULL:
                names = set(with_alphas(tuple(names), node.description))
            inner, scale = node.description.window, FULL
        elif operation is not None and operation.whole:
            inner = window
        known = found[node.digest].setdefault((node.digest, inner, scale), _Demand(node, inner, scale))
        known.channels |= names
        return known

    last = demand(feed.node, {feed.channels[name] for name in channels}, region, scale)
    made: list[_Demand] = []
    seconds = 0.0
    heaviest, most = "", 0.0
    for node in order:
        for wanted in found[node.digest].values():
            made.append(wanted)
            took = _spread(wanted, frame, patient, held, rough, demand)
            seconds += took
            if wanted.own + wanted.bytes + took * 1e9 > most:
                heaviest, most = node.item, wanted.own + wanted.bytes + took * 1e9
    for wanted in reversed(made):
        together, peak = 0.0, 0.0
        for given in wanted.inputs:
            peak = max(peak, together + given.peak)
            together += given.bytes
        wanted.peak = max(peak, together + wanted.own + wanted.bytes)
    area = SAMPLE_BYTES * region.area * len(channels)
    return Cost(max(last.peak if last else 0.0, area), seconds, heaviest)


def _spread(
    wanted: _Demand,
    frame: int,
    patient: bool,
    held: Held,
    rough: frozenset[str],
    demand: Callable[[Node, set[str], Window, Fraction], _Demand | None],
) -> float:
    """What a demand asks of its inputs in turn; returns the seconds that it takes by itself."""
    node, region, scale = wanted.node, wanted.region, wanted.scale
    names = tuple(name for name in node.description.channels if name in wanted.channels)
    samples = region.area * len(names)
    if node.operation is None and node.feeds:
        feed = node.feeds["from"]
        given = demand(feed.node, {feed.channels[name] for name in names}, region, scale)
        wanted.inputs += [given] if given else []
        return 0.0
    if node.operation is None or (node.digest not in rough and held(node, names, region, scale)):
        return samples * READ_NS * 1e-9
    if node.operation.slow and not patient and node.digest not in rough:
        # Refused as pending.
        return 0.0
    assert node.feeds is not None
    scene = Scene(frame, scale, region, node.inputs, Work())
    taken = 0
    for port, own in node.operation.needed(names, node.inputs, node.settings).items():
        feed = node.feeds[port]
        reach = node.operation.input_region(port, region, scene, node.settings)
        taken += reach.area * len(own)
        given = demand(feed.node, {feed.channels[name] for name in own}, reach, scale)
        wanted.inputs += [given] if given else []
    if not isinstance(node.operation, PointOperation):
        # What point operations need besides is a block's.
        wanted.own = samples * node.operation.scratch(node.settings, scene)
    return (samples * node.operation.effort(node.settings, scene) + taken * READ_NS) * 1e-9


def outputs_first(last: Node) -> list[Node]:
    """`last` and everything behind it, each node before any of its inputs."""
    order: list[Node] = []
    seen = {last.digest}
    open_ = [(last, iter((last.feeds or {}).values()))]
    while open_:
        node, feeds = open_[-1]
        following = next((feed.node for feed in feeds if feed.node.digest not in seen), None)
        if following is None:
            order.append(node)
            open_.pop()
        else:
            seen.add(following.digest)
            open_.append((following, iter((following.feeds or {}).values())))
    order.reverse()
    return order
