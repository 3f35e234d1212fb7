"""The engine: evaluates nodes over regions, keeps what it computed, computes nothing twice at a time."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Collection, Hashable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from nexal.engine.cache import PlaneCache, PlaneKey, Remembered
from nexal.engine.chains import Chain, Unrecorded, plainly, recorded, wanted_of
from nexal.engine.cost import cost_of, outputs_first
from nexal.engine.kept import Kept
from nexal.engine.plan import Feed, Node, Plan
from nexal.engine.sharing import Sharing
from nexal.errors import Pending, RecipeError
from nexal.kernels.mixing import reduced, with_alphas
from nexal.kernels.recording import Program
from nexal.kernels.threads import copy
from nexal.memory import empty, is_whole
from nexal.operations import PointOperation, Scene
from nexal.picture import Description, Picture, Plane, Window
from nexal.work import Work, current, working

SCALES = tuple(Fraction(1, divisor) for divisor in (1, 2, 4, 8))
BLOCK_PIXELS = 131_072
"""What point operations do between two looks at whether it is still wanted: half a megabyte a plane."""
BLOCK_INSTRUCTIONS = 8_000_000
"""Instructions on a pixel from which on another thread is worth waking, of a recorded chain: a few milliseconds."""


def scale_within(window: Window, longest: int) -> Fraction:
    """The largest proxy scale at which no side of a window is longer than that; the smallest where there is none."""
    side = max(window.width, window.height)
    return next((scale for scale in SCALES if side * scale <= longest), SCALES[-1])


STRIP_SECONDS = 0.2
"""How long an operation computes, about, before it is looked whether its result is still wanted."""
MOST_ASKED = 10_000
"""Results inside of chains that are remembered to have been wanted."""
DEEPEST = 60
"""Results that are evaluated inside of each other at the most."""
MOST_OVERLAP = 1.5
"""How much more of its inputs may be worked through for the sake of that."""


@dataclass(frozen=True)
class Task:
    """What stays the same through one evaluation."""

    frame: int
    scale: Fraction
    looked_at: bool
    patient: bool
    work: Work
    rough: frozenset[str] = frozenset()
    """Nodes that hang on a slow result which is stood in for by what its operation makes of the proxy."""
    held: dict[tuple[str, Fraction, Window], Mapping[str, Plane]] = field(default_factory=dict)
    """Planes computed ahead, so that a long chain is not walked to its end in one go."""
    depth: list[int] = field(default_factory=lambda: [0])

    def known_as(self, node: Node) -> str:
        """What a node's planes are kept under: rough ones are never taken for what they stand in for."""
        return f"{node.digest} roughly" if node.digest in self.rough else node.digest

    def stands_in(self, node: Node) -> bool:
        """Whether what a slow node's operation makes of the proxy is good enough."""
        return node.digest in self.rough and node.operation is not None and node.operation.roughly

    def ticket(self, node: Node, region: Window) -> Hashable:
        """What is being computed: who does not wait for slow results shares nothing with who does."""
        return self.known_as(node), self.scale.denominator, region, self.patient

    def scene(self, node: Node, region: Window) -> Scene:
        return Scene(self.frame, self.scale, region, node.inputs, self.work)


class Engine:
    """Evaluates results, keeping planes in one cache. Safe to use from many threads.

    `computed` counts how often each operation (by item) really ran, for tests and figures.
    """

    def __init__(self, cache_bytes: int = 1 << 30, threads: int | None = None, kept: Kept | None = None) -> None:
        self.cache = PlaneCache(cache_bytes)
        self.kept = kept
        self.computed: dict[str, int] = {}
        self._asked = Remembered(MOST_ASKED)
        self._sharing = Sharing()
        self._lock = threading.Lock()
        self._threads = threads or os.cpu_count() or 2
        self._pool = ThreadPoolExecutor(self._threads, thread_name_prefix="nexal-block")

    def evaluate(
        self,
        feed: Feed,
        plan: Plan,
        *,
        scale: Fraction = SCALES[0],
        region: Window | None = None,
        channels: Sequence[str] | None = None,
        looked_at: bool = False,
        patient: bool = True,
        rough: bool = False,
        cancellation: Work | None = None,
    ) -> Picture:
        """The channels of a feed (all of them by default) over a region at a scale.

        `region` is in pixels of that scale, relative to the display window's corner; by default the whole data
        window. Chains of point operations leave no trace between their ends; where it is `looked_at`, and one
        setting changed again and again, a result inside of one is kept once it is wanted again. Where `patient` is
        off, a slow operation that is not computed yet raises Pending instead of being waited for; with `rough` it is
        stood in for by what it makes of its inputs at this scale, where that tells something. `cancellation` is the
        work that this is part of, by default that of the caller; it is told what all will take before it begins.
        Raises NexalError.
        """
        if scale not in SCALES:
            raise RecipeError(f"{scale} is not a scale", where="scale", remedy="use 1, 1/2, 1/4 or 1/8")
        work = cancellation or current()
        standing_in = self._standing_in(feed.node) if rough else frozenset()
        task = Task(plan.frame, scale, looked_at, patient, work, standing_in)
        region = feed.description.window.scaled(scale) if region is None else region
        names = tuple(channels) if channels is not None else feed.description.channels
        with working(work):
            work.check()
            work.claim(cost_of(feed, names, region, plan.frame, scale, patient, self._held, standing_in))
            planes = self._all(feed, names, region, task)
        return Picture(feed.description, region, scale, {name: planes[name] for name in names})

    def _all(self, feed: Feed, names: Sequence[str], region: Window, task: Task) -> dict[str, Plane]:
        """Planes of a feed. What lies too deep is computed first, and held meanwhile: nothing recurses by step."""
        ahead: list[_TooDeep] = []
        while True:
            try:
                if not ahead:
                    return self._feed(feed, names, region, task)
                deep = ahead[-1]
                own = replace(task, scale=deep.scale, patient=deep.patient)
                task.held[deep.node.digest, deep.scale, deep.region] = self._inside(
                    deep.node, deep.channels, deep.region, own
                )
                ahead.pop()
            except _TooDeep as deeper:
                ahead.append(deeper)

    def _held(self, node: Node, channels: tuple[str, ...], region: Window, scale: Fraction) -> bool:
        keys = [PlaneKey(node.digest, scale.denominator, name) for name in channels]
        if all(self.cache.has(key, region) for key in keys):
            return True
        kept = self.kept if node.operation is not None and node.operation.slow else None
        return kept is not None and all(kept.has(f"{node.digest}-{name}") for name in channels)

    def _standing_in(self, last: Node) -> frozenset[str]:
        """The slow nodes that are not computed yet and can be stood in for, and what hangs on them."""
        found: set[str] = set()
        for node in reversed(outputs_first(last)):
            operation = node.operation
            own = operation is not None and operation.slow and operation.roughly
            if own and self._held(node, node.description.channels, node.description.window, SCALES[0]):
                continue
            if own or any(feed.node.digest in found for feed in (node.feeds or {}).values()):
                found.add(node.digest)
        return frozenset(found)

    def _feed(self, feed: Feed, names: Sequence[str], region: Window, task: Task) -> dict[str, Plane]:
        own = [feed.channels[name] for name in names]
        planes = self._planes(feed.node, tuple(dict.fromkeys(own)), region, task)
        return {name: planes[channel] for name, channel in zip(names, own, strict=True)}

    def _planes(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        """Planes over exactly `region`, 0 outside the node's data window."""
        inner = region.intersect(node.description.window.scaled(task.scale))
        if inner.empty:
            return {name: _zeros(node.description, name, region) for name in channels}
        planes = self._inside(node, channels, inner, task)
        if inner == region:
            return planes
        result = {}
        for name in channels:
            result[name] = _zeros(node.description, name, region)
            copy(planes[name], result[name][inner.within(region)])
        return result

    def _inside(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        ahead = task.held.get((node.digest, task.scale, region), {})
        if all(name in ahead for name in channels):
            return {name: ahead[name] for name in channels}
        if task.depth[0] >= DEEPEST:
            raise _TooDeep(node, channels, region, task.scale, task.patient)
        task.depth[0] += 1
        try:
            return self._reached(node, channels, region, task)
        finally:
            task.depth[0] -= 1

    def _reached(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        if node.operation is None and node.feeds:
            return self._feed(node.feeds["from"], channels, region, task)
        if node.operation is not None and node.operation.slow and not task.stands_in(node):
            return self._slow(node, channels, region, task)
        if node.operation is not None and node.operation.whole:
            window = node.description.window.scaled(task.scale)
            if region != window:
                return _cut(self._inside(node, channels, window, task), region, window)
        return self._sharing.planes(
            task.ticket(node, region),
            channels,
            task.work,
            lambda name: self.cache.find(self._key(node, name, task), region),
            lambda missing: self._computed(node, missing, region, task),
        )

    def _slow(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        """A part of a slow result: computed once in full resolution, reduced from there for proxies."""
        window = node.description.window
        wanted = channels if task.scale == 1 else with_alphas(channels, node.description)
        whole = replace(task, scale=SCALES[0], rough=frozenset())

        def make(missing: tuple[str, ...]) -> Mapping[str, Plane]:
            if not task.patient:
                raise Pending(node.item, node.digest)
            planes = self._compute(node, missing, window, whole)
            for name, plane in planes.items():
                self.cache.put(self._key(node, name, whole), window, plane)
                if self.kept is not None:
                    self.kept.put(f"{node.digest}-{name}", plane)
            return planes

        ticket = whole.ticket(node, window)
        full = self._sharing.planes(ticket, wanted, whole.work, lambda name: self._found(node, name), make)
        if task.scale == 1:
            return _cut(full, region, window)
        planes = reduced(full, channels, node.description, window, task.scale.denominator)
        return _cut(planes, region, window.scaled(task.scale))

    def _found(self, node: Node, channel: str) -> Plane | None:
        window = node.description.window
        plane = self.cache.find(PlaneKey(node.digest, 1, channel), window)
        if plane is None and self.kept is not None:
            plane = self.kept.find(f"{node.digest}-{channel}")
            if plane is not None:
                self.cache.put(PlaneKey(node.digest, 1, channel), window, plane)
        return plane

    def _computed(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        """Planes computed and kept; what is mapped from a file is kept there already."""
        planes = self._compute(node, channels, region, task)
        for name, plane in planes.items():
            if node.reader is None or is_whole(plane):
                self.cache.put(self._key(node, name, task), region, plane, trial=task.looked_at)
        return planes

    @staticmethod
    def _key(node: Node, channel: str, task: Task) -> PlaneKey:
        return PlaneKey(task.known_as(node), task.scale.denominator, channel)

    def _compute(self, node: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        if node.reader is not None:
            return node.reader.read(channels, task.scale, region)
        assert node.operation is not None
        if isinstance(node.operation, PointOperation):
            return self._points(node, channels, region, task)
        scene = task.scene(node, region)
        wanted = node.operation.needed(channels, node.inputs, node.settings)
        inputs = {}
        for port, names in wanted.items():
            assert node.feeds is not None
            reach = node.operation.input_region(port, region, scene, node.settings)
            inputs[port] = self._feed(node.feeds[port], names, reach, task)
            if not node.description.labels and port not in node.operation.exact:
                # Ids are ids no more where the result holds none: they are numbers like any others.
                inputs[port] = {name: plane.astype(np.float32, copy=False) for name, plane in inputs[port].items()}
        self._count(node)
        planes = self._in_strips(node, inputs, channels, region, task)
        return {name: np.ascontiguousarray(planes[name], node.description.sample_type(name)) for name in channels}

    # What is no number is told in the picture, not by NumPy to whoever reads the log.
    @np.errstate(all="ignore")
    def _in_strips(
        self,
        node: Node,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: tuple[str, ...],
        region: Window,
        task: Task,
    ) -> Mapping[str, Plane]:
        """What an operation computes, in strips of some rows where it takes long: given up, it soon ends."""
        operation, settings = node.operation, node.settings
        assert operation is not None

        def given(part: Window) -> dict[str, Window]:
            scene = task.scene(node, part)
            return {port: operation.input_region(port, part, scene, settings) for port in inputs}

        whole = given(region)
        seconds = region.area * len(channels) * operation.effort(settings, task.scene(node, region)) * 1e-9
        strips = 1 if operation.whole else min(region.height, round(seconds / STRIP_SECONDS))
        rows = region.height
        while strips > 1:
            rows = -(-region.height // strips)
            middle = Window(region.x, region.y + (region.height - rows) // 2, region.width, rows)
            read = sum(reach.area for reach in given(middle).values()) * strips
            if read <= MOST_OVERLAP * max(region.area, sum(reach.area for reach in whole.values())):
                break
            strips //= 2
        if strips <= 1:
            task.work.check()
            return operation.compute(inputs, channels, settings, task.scene(node, region))
        result: dict[str, Plane] = {}
        for top in range(0, region.height, rows):
            task.work.check()
            part = Window(region.x, region.y + top, region.width, min(rows, region.height - top))
            cut = {
                port: {name: plane[reach.within(whole[port])] for name, plane in inputs[port].items()}
                for port, reach in given(part).items()
            }
            made = operation.compute(cut, channels, settings, task.scene(node, part))
            for name in channels:
                if name not in result:
                    result[name] = empty((region.height, region.width), node.description.sample_type(name))
                copy(made[name], result[name][top : top + part.height])
        return result

    def _count(self, node: Node) -> None:
        with self._lock:
            self.computed[node.item] = self.computed.get(node.item, 0) + 1

    def _points(self, last: Node, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        """What a point operation and those behind it make, in one pass; what cannot be recorded is done by NumPy."""
        plain: set[str] = set()
        while True:
            chain = self._chain(last, channels, region, task, plain)
            if last.digest in plain:
                return self._plainly(chain, channels, region, task)
            try:
                program = recorded(chain, channels, task.scene(last, region))
            except Unrecorded as error:
                plain.add(error.node.digest)
                continue
            return self._run(program, chain, channels, region, task)

    def _run(
        self, program: Program, chain: Chain, channels: tuple[str, ...], region: Window, task: Task
    ) -> Mapping[str, Plane]:
        planes = self._entering(chain, region, task)
        for node in chain.nodes:
            self._count(node)
        result = {name: empty((region.height, region.width)) for name in channels}
        step = 1 / float(task.scale)

        def strip(cut: slice) -> None:
            rows = {key: plane[cut] for key, plane in planes.items()}
            program.run(rows, [plane[cut] for plane in result.values()], (region.x, region.y + cut.start, step))

        self._over_rows(strip, region, task, max(BLOCK_PIXELS, BLOCK_INSTRUCTIONS // max(1, len(program.code))))
        return result

    def _chain(
        self, last: Node, channels: tuple[str, ...], region: Window, task: Task, plain: Collection[str]
    ) -> Chain:
        """The point operations behind `last` that run in one pass with it; none of a `plain` one."""
        wanted: dict[str, set[str]] = {last.digest: {*channels}}
        inner: list[Node] = []
        entering: list[tuple[Node, tuple[str, ...]]] = []

        def order(node: Node) -> tuple[str, ...]:
            return tuple(name for name in node.description.channels if name in wanted[node.digest])

        for node in outputs_first(last):
            if node.digest not in wanted:
                continue
            alone = last.digest in plain or node.digest in plain
            if node is not last and (alone or not self._joins(node, order(node), region, task)):
                entering.append((node, order(node)))
                continue
            inner.append(node)
            for names in wanted_of(node, order(node)).values():
                for source, channel in names.values():
                    wanted.setdefault(source.digest, set()).add(channel)
        return Chain(inner[::-1], {node.digest: order(node) for node in inner}, entering)

    def _joins(self, node: Node, channels: Sequence[str], region: Window, task: Task) -> bool:
        """Whether a node may be computed inside of a chain, rather than on its own and kept."""
        if not isinstance(node.operation, PointOperation):
            return False
        if task.looked_at and self._asked.again((task.known_as(node), task.scale)):
            return False
        window = node.description.window.scaled(task.scale)
        if not window.contains(region):
            return False
        keys = [self._key(node, name, task) for name in channels]
        return not all(self.cache.find(key, region) is not None for key in keys)

    def _entering(self, chain: Chain, region: Window, task: Task) -> dict[tuple[str, str], Plane]:
        return {
            (node.digest, name): plane
            for node, names in chain.entering
            for name, plane in self._planes(node, names, region, task).items()
        }

    def _plainly(self, chain: Chain, channels: tuple[str, ...], region: Window, task: Task) -> Mapping[str, Plane]:
        (node,) = chain.nodes
        planes = self._entering(chain, region, task)
        self._count(node)
        shape = (region.height, region.width)
        result = {name: empty(shape, node.description.sample_type(name)) for name in channels}

        def strip(cut: slice) -> None:
            part = Window(region.x, region.y + cut.start, region.width, cut.stop - cut.start)
            rows = {key: plane[cut] for key, plane in planes.items()}
            made = plainly(node, chain.wanted[node.digest], rows, task.scene(node, part))
            for name in channels:
                result[name][cut] = made[name]

        self._over_rows(strip, region, task)
        return result

    def _over_rows(
        self, strip: Callable[[slice], None], region: Window, task: Task, pixels: int = BLOCK_PIXELS
    ) -> None:
        """Do something to strips of rows of so many pixels, on all threads; it never waits for strips of its own."""
        rows = _block_rows(region, self._threads, pixels)
        cuts = [slice(top, min(top + rows, region.height)) for top in range(0, region.height, rows)]

        def checked(cut: slice) -> None:
            task.work.check()
            strip(cut)

        if len(cuts) == 1:
            checked(cuts[0])
        else:
            for future in [self._pool.submit(checked, cut) for cut in cuts]:
                future.result()


class _TooDeep(Exception):
    """Planes that lie many steps behind those asked for."""

    def __init__(self, node: Node, channels: tuple[str, ...], region: Window, scale: Fraction, patient: bool) -> None:
        super().__init__(node.item)
        self.node, self.channels, self.region, self.scale, self.patient = node, channels, region, scale, patient


def _block_rows(region: Window, threads: int, pixels: int) -> int:
    """Rows of a block of about so many pixels, so that all threads have as many blocks to do."""
    blocks = -(-region.area // pixels)
    if blocks > 1:
        blocks = -(-blocks // threads) * threads
    return max(1, -(-region.height // max(1, blocks)))


def _zeros(description: Description, channel: str, region: Window) -> Plane:
    return np.zeros((region.height, region.width), description.sample_type(channel))


def _cut(planes: Mapping[str, Plane], region: Window, window: Window) -> dict[str, Plane]:
    return {name: plane[region.within(window)] for name, plane in planes.items()}
