"""What is likely to go wrong with a matte, found by calculation, each with a remedy of one click."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.analysis.checking import check, remedy_kind
from nexal.analysis.marks import Mark, marked
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.engine.plan import Feed
from nexal.kernels.bounds import bounded, covering
from nexal.kernels.morphology import local_range
from nexal.kernels.pointmath import encode
from nexal.operations import find, parse_settings
from nexal.operations.mattes import StretchSettings
from nexal.picture import ALPHA_NAME, PLANE_NAME, Plane
from nexal.recipe import Step

THIN = 3
"""Parts of a matte narrower than this many pixels are thin."""
LOST = 0.5
"""A thin part that keeps less than this much of its coverage is lost."""
STANDS_OUT = 0.2
"""How far a thin part rises above its surroundings, as a part of the way from background to subject."""
LEAST_AREA = 8
"""Pixels below which a thin spot is noise, not a part."""
MOST_BOXES = 200

DEEP = 6
"""Pixels from the edge from which on a matte should be clean."""
SOLID, CLEAN = 0.97, 0.02
GREY_SHARE = 0.002
"""Part of the core or of the background that may be grey without a warning."""
VEIL = (0.15, 0.9)
"""Values between which wide even greys are taken for what is meant to be seen through."""
FLAT = 0.03
"""How far greys may lie apart within some pixels and still be no slope of an edge."""
LEVELS = (0.6, 0.7, 0.8, 0.9, SOLID)
EVEN = 0.06
"""How far the values of a veil may lie apart within some pixels."""
NEARLY = 0.05
WORTH = 1.5
"""How many times as much a remedy has to put right as it changes elsewhere."""
SOFT_ON_PURPOSE = frozenset({"bay", "blur", "ramp", "noise", "constant", "shape", "edge_melt"})
FINISHED = frozenset({"stack", "sum_passes", "grade"})
"""Pictures whose alpha was judged where it was made."""
LONGEST = 1024

remedy_kind("feed", "feed", optional=("steps",))
"""A port of the item fed anew, from the added steps if there are any."""


def thin_parts(
    engine: Engine,
    plan: Plan,
    before: Feed,
    after: Feed,
    domain: str,
    subject: Sequence[Mark] = (),
    background: Sequence[Mark] = (),
) -> dict[str, Any]:
    """Areas of a matte narrower than 3 px, and those that lose more than half of their coverage by a step.

    `before` and `after` are the step's input and result, planes. The coverage before is measured between the medians
    of the marked background and subject (the 2nd and 98th percentile without marks), the input encoded in the display
    domain; thin is what an opening by 3 x 3 pixels takes away. Answers `thin`, `lost` and `boxes` (x, y, width, height
    of the lost ones in full resolution, the most lost first).
    """
    full = [engine.evaluate(feed, plan, looked_at=True, patient=False).planes[PLANE_NAME] for feed in (before, after)]
    window = before.description.window
    shared = window.intersect(after.description.window)
    source, result = (
        bounded(plane[shared.within(feed.description.window)])
        for plane, feed in zip(full, (before, after), strict=True)
    )
    if domain == "display" and not before.description.all_data:
        source = encode(source)
    low, high = _ends(engine, plan, before, domain, source, result, subject, background)
    if high == low:
        return {"thin": 0, "lost": 0, "boxes": []}
    coverage = np.clip((source - np.float32(low)) * np.float32(1 / (high - low)), 0, 1)
    raised = coverage - cv2.morphologyEx(coverage, cv2.MORPH_OPEN, np.ones((THIN, THIN), np.uint8))
    _, labels, statistics, _ = cv2.connectedComponentsWithStats((raised > STANDS_OUT).astype(np.uint8), connectivity=8)
    count = len(statistics)
    held, kept = (
        np.bincount(labels.ravel(), plane.ravel().astype(np.float64), count)
        for plane in (coverage, np.clip(result, 0, 1))
    )
    large = statistics[:, cv2.CC_STAT_AREA] >= LEAST_AREA
    large[0] = False
    lost = np.flatnonzero(large & (kept < LOST * held))
    lost = lost[np.argsort(kept[lost] - held[lost])]
    boxes = statistics[lost[:MOST_BOXES], :4] + np.array([shared.x, shared.y, 0, 0])
    return {"thin": int(large.sum()), "lost": int(lost.size), "boxes": boxes.tolist()}


def _ends(
    engine: Engine,
    plan: Plan,
    before: Feed,
    domain: str,
    source: Plane,
    result: Plane,
    subject: Sequence[Mark],
    background: Sequence[Mark],
) -> tuple[float, float]:
    """The values that stand for background and for subject in the input of a step."""
    sets = [marked(engine, plan, before, (PLANE_NAME,), marks) for marks in (background, subject)]
    sets = [values[np.isfinite(values)] for values in sets]
    if all(values.size for values in sets):
        if domain == "display" and not before.description.all_data:
            sets = [encode(values) for values in sets]
        return float(np.median(sets[0])), float(np.median(sets[1]))
    low, high = (float(value) for value in np.percentile(source, (2, 98)))
    # Which end the subject lies at shows in the result: a stretch may turn a matte round.
    rising = float(((source - source.mean()) * (result - result.mean())).mean(dtype=np.float64)) >= 0
    return (low, high) if rising else (high, low)


@check("mattes", by_marks=True)
def check_matte(
    engine: Engine,
    plan: Plan,
    item: str,
    subject: Sequence[Mark] = (),
    background: Sequence[Mark] = (),
) -> list[dict[str, Any]]:
    """Warnings about an item seen as a matte: `code`, `text`, and a `remedy` (`label`, `steps` to add, or a `feed`).

    - greys inside the core: partial opacity further than 6 px from the edge that is no slope of a softer edge
    - background not clean: coverage as far outside
    - the wrong way round: the marked subject darker than the marked background, or a border that is kept round a
      middle that is not
    - a matte operation fed with a whole picture, whose colour it alters
    A picture is judged by its alpha. Nothing is told of what has none, of steps that are soft on purpose, of finished
    stacks, of wide even greys, which are veils, and of whole mattes before a screen, which tell veils from solids
    better than a look at alpha can. Remedies are measured: what they put right against what they change elsewhere; in a
    `stretch` they move its own posts.
    """
    step = plan.recipe.step(item)
    if step is not None and step.on and (step.op in SOFT_ON_PURPOSE | FINISHED or find(step.op).family == "space"):
        return []
    warnings = _altered_colour(plan, item)
    feed = plan.feed(item)
    if not feed.description.is_plane:
        if not feed.description.has_alpha:
            return warnings
        feed = plan.feed(f"{item}.{ALPHA_NAME}")
    scale = scale_within(feed.description.display, LONGEST)
    plane = engine.evaluate(feed, plan, scale=scale, looked_at=True, patient=False).planes[PLANE_NAME]
    plane = covering(plane)
    if float(plane.max(initial=0)) - float(plane.min(initial=0)) < 1e-6 or not _is_matte(plane):
        return warnings
    address = item if plan.feed(item).description.is_plane else f"{item}.{ALPHA_NAME}"
    sides = [marked(engine, plan, feed, (PLANE_NAME,), marks) for marks in (subject, background)]
    if _turned(plane, sides):
        return [*warnings, _wrong_way(address, all(side.size for side in sides))]
    deep = max(2, round(DEEP * float(scale)))
    stretch = step if step is not None and step.op == "stretch" and step.on and address == item else None
    if _knows_itself(feed):
        # Where it doubts its greys it says so itself: a hard core would be a guess.
        return warnings
    found = _Matte(plane, scale, address, stretch)
    return warnings + _greys(found, deep) + _unclean(found, deep)


def _no_edge(plane: Plane, grey: NDArray[np.bool_], deep: int) -> NDArray[np.bool_]:
    """Which greys of a core (values above 0.5) are no part of a soft edge, however wide: they are even, or lie lower
    than all that is round them, where an edge falls steadily to the outside."""
    found = local_range(cv2.GaussianBlur(plane, (0, 0), deep / 3), deep) < FLAT
    for level in LEVELS:
        below = plane < level
        count, labels = cv2.connectedComponents(below.astype(np.uint8), connectivity=8)
        lowest = np.full(count, np.inf, np.float32)
        np.minimum.at(lowest, labels.ravel(), plane.ravel())
        found |= below & (lowest > 0.5)[labels]
    return grey & found


@dataclass(frozen=True)
class _Matte:
    """A matte as it was judged: H x W at a scale, its address, and the stretch that makes it, if one does."""

    plane: Plane
    scale: Fraction
    address: str
    stretch: Step | None

    def judge(self, wrong: NDArray[np.bool_], ideal: float) -> Callable[[Engine, Plan, str], str | None]:
        """Measures a remedy by what it does where the matte is wrong, and elsewhere; what is nearly right may
        become so."""
        spared = wrong | (np.abs(self.plane - ideal) < NEARLY)

        def judged(engine: Engine, plan: Plan, item: str) -> str | None:
            feed = plan.feed(item if plan.feed(item).description.is_plane else f"{item}.{ALPHA_NAME}")
            after = engine.evaluate(feed, plan, scale=self.scale, looked_at=True, patient=False).planes[PLANE_NAME]
            if after.shape != self.plane.shape:
                return None
            after = covering(after)
            before = float(np.abs(self.plane - ideal)[wrong].sum(dtype=np.float64))
            left = float(np.abs(after - ideal)[wrong].sum(dtype=np.float64))
            harm = float(np.abs(after - self.plane)[~spared].sum(dtype=np.float64))
            if left > 0.5 * before or before - left < WORTH * harm:
                return None
            elsewhere = harm / max(1, int(np.count_nonzero(~spared)))
            return f"Takes {1 - left / before:.0%} of it away, and moves edges by {elsewhere:.3f} in the mean"

        return judged

    def moved(self, post: str, value: float) -> dict[str, Any] | None:
        """The stretch's settings with one post where `value` of its result comes from; None where it has none."""
        if self.stretch is None or any(isinstance(value, dict) for value in self.stretch.settings.values()):
            return None
        settings = parse_settings(find("stretch"), self.stretch.settings)
        assert isinstance(settings, StretchSettings)
        t = (value - settings.out_black) / (settings.out_white - settings.out_black or 1)
        t = max(0.0, t) ** (math.log(settings.middle) / math.log(0.5))
        place = round(settings.black + t * (settings.white - settings.black), 4)
        return {"replace": {"set": dict(self.stretch.settings) | {post: place}}}


def _veil(plane: Plane, grey: NDArray[np.bool_], deep: int) -> bool:
    """Whether greys are wide and even, and so meant: most of them are, and lie well between the ends."""
    element = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * deep + 1, 2 * deep + 1))
    wide = cv2.morphologyEx(grey.astype(np.uint8), cv2.MORPH_OPEN, element).astype(bool)
    even = local_range(cv2.GaussianBlur(plane, (0, 0), deep / 3), deep) < EVEN
    veil = wide & even & (plane > VEIL[0]) & (plane < VEIL[1])
    return bool(np.count_nonzero(veil) > 0.5 * np.count_nonzero(grey))


def _is_matte(plane: Plane) -> bool:
    """Whether a plane is far enough towards a matte to be judged: most of it at one of the ends."""
    ends = np.count_nonzero((plane < 0.1) | (plane > 0.9))
    return bool(ends > 0.6 * plane.size and plane.min() > -0.2 and plane.max() < 1.2)


def _eroded(mask: NDArray[np.bool_], deep: int) -> NDArray[np.bool_]:
    element = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * deep + 1, 2 * deep + 1))
    return cv2.erode(mask.astype(np.uint8), element, borderType=cv2.BORDER_CONSTANT, borderValue=1).astype(bool)


def _turned(plane: Plane, sides: Sequence[Plane]) -> bool:
    subject, background = (side[np.isfinite(side)] for side in sides)
    if subject.size and background.size:
        return float(subject.mean()) < float(background.mean()) - 0.1
    rim = max(1, min(plane.shape) // 50)
    border = np.concatenate(
        [plane[:rim].ravel(), plane[-rim:].ravel(), plane[:, :rim].ravel(), plane[:, -rim:].ravel()]
    )
    height, width = plane.shape
    middle = plane[height // 4 : height - height // 4, width // 4 : width - width // 4]
    return float(border.mean()) > 0.7 and float(middle.mean()) < float(border.mean()) - 0.15


def _wrong_way(address: str, by_marks: bool) -> dict[str, Any]:
    reason = (
        "the marked subject is darker than its background" if by_marks else "the border is kept, the middle removed"
    )
    return {
        "code": "turned",
        "text": f"The matte looks the wrong way round: {reason}",
        "remedy": {"label": "Turn it round", "steps": [{"name": "turned", "op": "invert", "in": {"from": address}}]},
    }


def _knows_itself(feed: Feed) -> bool:
    """Whether a plane is the alpha of a step that tells veils from solids, be it by way of its colour."""
    node, channel = feed.node, next(iter(feed.channels.values()))
    while node.feeds is not None:
        if node.operation is None:
            port = "from"
        elif node.operation.name == "recover_colour" and channel == ALPHA_NAME:
            port, channel = "matte", PLANE_NAME
        else:
            passed = node.operation.untouched(channel, node.inputs, node.settings)
            if passed is None:
                return node.operation.name == "screen_solve"
            port, channel = passed
        following = node.feeds[port]
        node, channel = following.node, following.channels[channel]
    return False


def _greys(matte: _Matte, deep: int) -> list[dict[str, Any]]:
    plane = matte.plane
    core = _eroded(plane > 0.5, deep)
    grey = _no_edge(plane, core & (plane < SOLID), deep)
    share = int(grey.sum()) / max(1, int(core.sum()))
    if share <= GREY_SHARE or _veil(plane, grey, deep):
        return []
    lowest = float(plane[grey].min())
    typical = float(np.percentile(plane[grey], 2))
    address = matte.address
    moved = matte.moved("white", typical - 0.005)
    if moved:
        remedy = {"label": f"Move its white to {moved['replace']['set']['white']:.3f}"} | moved
    else:
        remedy = {
            "label": "Unite with a hard core",
            "steps": [
                {"name": "hard", "op": "threshold", "in": {"from": address}, "set": {"level": 0.5}},
                {"name": "core", "op": "grow", "in": {"matte": "hard"}, "set": {"distance": -float(DEEP)}},
                {"name": "solid", "op": "logic", "in": {"mattes": [address, "core"]}, "set": {"mode": "union"}},
            ],
        }
    return [
        {
            "code": "grey_core",
            "text": f"Greys inside the core: {share:.1%} of it is partly see-through, down to {lowest:.2f}",
            "remedy": remedy | {"judge": matte.judge(grey, 1.0)},
        }
    ]


def _unclean(matte: _Matte, deep: int) -> list[dict[str, Any]]:
    plane = matte.plane
    outside = _eroded(plane < 0.5, deep)
    dirt = _no_edge(1 - plane, outside & (plane > CLEAN), deep)
    share = int(dirt.sum()) / max(1, int(outside.sum()))
    # What lies over most of the background is a haze, however even it is.
    if share <= GREY_SHARE or (share < 0.5 and _veil(plane, dirt, deep)):
        return []
    highest = float(np.percentile(plane[dirt], 99))
    black = round(min(highest + 0.005, 0.49), 3)
    moved = matte.moved("black", black)
    if moved:
        remedy = {"label": f"Move its black to {moved['replace']['set']['black']:.3f}"} | moved
    else:
        clean = {"name": "clean", "op": "stretch", "in": {"from": matte.address}, "set": {"black": black}}
        remedy = {"label": f"Pull black up to {black:.3f}", "steps": [clean]}
    return [
        {
            "code": "background",
            "text": f"Background not clean: {share:.1%} of it keeps something, up to {highest:.2f}",
            "remedy": remedy | {"judge": matte.judge(dirt, 0.0)},
        }
    ]


def _altered_colour(plan: Plan, item: str) -> list[dict[str, Any]]:
    """Operations that are meant for mattes, fed with a picture's colour as a whole."""
    step = plan.recipe.step(item)
    if step is None or step.op not in ("stretch", "invert") or not step.on:
        return []
    address = step.inputs.get("from")
    if not isinstance(address, str) or step.settings.get("channels"):
        return []
    description = plan.feed(address).description
    if description.is_plane or not description.colour:
        return []
    channel = next((name for name in description.colour if name.rpartition(".")[2] == "G"), description.colour[0])
    return [
        {
            "code": "colour",
            "text": f"This changes the colour of {address}, not a copy of one channel",
            "remedy": {
                "label": f"Work on {address}.{channel}",
                "feed": {"port": "from", "address": f"{address}.{channel}"},
            },
        }
    ]
