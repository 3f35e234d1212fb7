"""Scout: which crossing of two channels parts the subject from its background, ranked by calculation."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.analysis.marks import Mark, marked
from nexal.colour import LUMINANCE
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.engine.plan import Feed
from nexal.errors import SettingError
from nexal.kernels.bounds import bounded
from nexal.kernels.pointmath import encode
from nexal.kernels.ranking import MODES, SINGLE, SYMMETRIC, crossed, quality, rank
from nexal.operations.ink import separated
from nexal.picture import Description, Plane, Window, is_alpha, main_channels

LEAST_SAMPLES = 8
MOST_SAMPLES = 2000
MOST_CHANNELS = 8
OUTERMOST = 0.01
"""The part of the samples that does not count where ends are looked at."""
NEAR_ZERO, REACH = 0.02, 4.0
"""A divisor below the one makes noise of a matte: a code of 8 bit more or less moves it by a fifth. A result of more
than so many times what the channels reach is beyond what can be shown."""
ROWS = 48
PROXY = 256
PARTED_WELL = 1e4
PARTED = 0.98
"""Part of each set that the proposed stretch puts at its end."""
EDGES = 0.08
"""Part of the pixels with the largest gradients that count as edges."""

FAR, WIDE, MOST_KINDS = 0.16, 0.015, 3
"""How far an encoded colour is from every mark's, and how much of the picture such a place covers, to be told of."""
KNOWN = 300

LUMA = "luminance"
_WORDS = {"R": "red", "G": "green", "B": "blue", "C": "cyan", "M": "magenta", "Y": "yellow", "K": "black ink"}


def base_channels(description: Description) -> list[str]:
    """The channels of the picture itself that can be crossed: colour before data, no alpha."""
    if description.is_plane:
        return list(description.channels)
    names = [name for name in main_channels(description) if not is_alpha(name)]
    names.sort(key=lambda name: name in description.data)
    return names[:MOST_CHANNELS]


def _rgb(names: Sequence[str]) -> list[int] | None:
    """Places of red, green and blue among the names, where all are there."""
    found = [next((i for i, name in enumerate(names) if name.rpartition(".")[2] == wanted), None) for wanted in "RGB"]
    return None if any(i is None for i in found) else [i for i in found if i is not None]


def extended(planes: Plane, names: Sequence[str], data: Sequence[bool], *, ink: bool) -> tuple[Plane, tuple[str, ...]]:
    """Channels as they are judged: encoded, with the luminance and, where asked for, the ink separations behind.

    `planes` is channels x samples of scene values.
    """
    seen = [plane if own else encode(plane) for plane, own in zip(planes, data, strict=True)]
    rgb = _rgb(names)
    more: list[Plane] = []
    labels: list[str] = []
    if rgb and not any(data[i] for i in rgb):
        more.append(encode(sum(np.float32(w) * planes[i] for w, i in zip(LUMINANCE.values(), rgb, strict=True))))
        labels.append(LUMA)
        if ink:
            inks = separated([seen[i] for i in rgb])
            more += inks.values()
            labels += [f"ink.{name}" for name in inks]
    return np.ascontiguousarray(np.stack([*seen, *more]), np.float32), (*names, *labels)


def candidates(count: int) -> NDArray[np.int32]:
    """Every channel, and every pair of channels by every mode and inversion; both orders where order matters."""
    rows = [(a, a, SINGLE, inverted, 0) for a in range(count) for inverted in (0, 1)]
    for (code, mode), (a, b) in itertools.product(enumerate(MODES), itertools.combinations(range(count), 2)):
        orders = [(a, b)] if mode in SYMMETRIC else [(a, b), (b, a)]
        for (first, second), invert_a, invert_b in itertools.product(orders, (0, 1), (0, 1)):
            rows.append((first, second, code, invert_a, invert_b))
    return np.array(rows, np.int32).reshape(-1, 5)


def scout(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    subject: Iterable[Mark | Window],
    background: Iterable[Mark | Window],
    *,
    ink: bool = False,
    rows: int = ROWS,
    cancellation: Cancellation | None = None,
) -> dict[str, Any]:
    """Rank candidates for a matte by how well they part two sets of marked pixels.

    Answers `tried` and `rows`, best first: channels `a`, `b`, `mode`, inversions; `separation`, the area under the ROC
    curve (0.5 to 1); `fisher`, (m1 - m0)^2 / (v1 + v0); `edge_kept`, the part of the gradient at the picture's edges
    that the stretch keeps; `noise`, of the stretched result; `direction`, whether the subject is `bright` or `dark`;
    `stretch`, the posts that put 98 % of each set at its end; `words`. Candidates that only differ by a factor or an
    offset appear once, the simplest of them. Values are display-encoded. `unmarked` tells of wide places whose colour
    is far from that of every mark, the widest first: `share` of the picture, `x` and `y` of their middle in
    full-resolution pixels, `colour`. Raises SettingError where a set holds fewer than eight usable pixels.

    References: Fawcett, *An introduction to ROC analysis*, Pattern Recognition Letters 27, 2006; Fisher, Annals of
    Eugenics 7, 1936.
    """
    names = base_channels(feed.description)
    samples = [
        _enough(marked(engine, plan, feed, names, marks), side)
        for side, marks in (("subject", subject), ("background", background))
    ]
    data = [name in feed.description.data for name in names]
    (inside, labels), (outside, _) = (extended(planes, names, data, ink=ink) for planes in samples)
    proxy = _proxy(engine, plan, feed, names, cancellation)
    whole, _ = extended(proxy.reshape(len(names), -1), names, data, ink=ink)
    judge = _Judge(inside, outside, whole.reshape(-1, *proxy.shape[1:]), labels)
    unmarked = _unmarked(proxy, names, data, samples, feed.description.window)
    return {"tried": len(judge.codes), "rows": judge.rows(rows), "unmarked": unmarked}


def _unmarked(
    proxy: Plane, names: Sequence[str], data: Sequence[bool], samples: Sequence[Plane], window: Window
) -> list[dict[str, Any]]:
    from scipy.spatial import cKDTree

    rgb = _rgb(names)
    if rgb is None or any(data[i] for i in rgb):
        return []
    known = [encode(planes[rgb]) for planes in samples]
    known = [planes[:, :: max(1, planes.shape[1] // KNOWN)] for planes in known]
    seen = encode(proxy[rgb])
    tree = cKDTree(np.concatenate(known, axis=1).T)
    distance, _ = tree.query(seen.reshape(3, -1).T, distance_upper_bound=FAR)
    far = np.isinf(distance).reshape(seen.shape[1:]).astype(np.uint8)
    far = cv2.morphologyEx(far, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    count, labels, statistics, _ = cv2.connectedComponentsWithStats(far, connectivity=8)
    found: list[tuple[float, dict[str, Any]]] = []
    for label in range(1, count):
        share = float(statistics[label, cv2.CC_STAT_AREA] / far.size)
        if share < WIDE:
            continue
        inside = labels == label
        # The pixel that is furthest from the place's own edge lies in it, whatever its shape.
        depth = cv2.distanceTransform(np.pad(inside.astype(np.uint8), 1), cv2.DIST_L2, 3)[1:-1, 1:-1]
        row, column = np.unravel_index(int(depth.argmax()), depth.shape)
        place = {
            "share": share,
            "x": float(window.x + (column + 0.5) * window.width / far.shape[1]),
            "y": float(window.y + (row + 0.5) * window.height / far.shape[0]),
            "colour": [float(plane[inside].mean()) for plane in seen],
        }
        found.append((share, place))
    return [place for _, place in sorted(found, key=lambda each: -each[0])[:MOST_KINDS]]


def _enough(found: Plane, side: str) -> Plane:
    """At least eight samples whose every channel is finite, and not more than are needed."""
    found = found[:, np.isfinite(found).all(axis=0)]
    if found.shape[1] < LEAST_SAMPLES:
        raise SettingError(
            f"the {side} has {found.shape[1]} marked pixels, and {LEAST_SAMPLES} are wanted",
            where=side,
            remedy=f"mark more of the {side} inside the picture",
        )
    if found.shape[1] > MOST_SAMPLES:
        found = found[:, np.linspace(0, found.shape[1] - 1, MOST_SAMPLES).astype(np.int64)]
    return found


def _proxy(
    engine: Engine, plan: Plan, feed: Feed, names: Sequence[str], cancellation: Cancellation | None
) -> NDArray[np.float32]:
    scale = scale_within(feed.description.window, PROXY)
    planes = _whole(engine, plan, feed, names, scale, cancellation)
    return bounded(np.stack([planes[name] for name in names]))


def _whole(
    engine: Engine, plan: Plan, feed: Feed, names: Sequence[str], scale: Fraction, cancellation: Cancellation | None
) -> dict[str, Plane]:
    return dict(
        engine.evaluate(feed, plan, scale=scale, channels=names, looked_at=True, cancellation=cancellation).planes
    )


class _Judge:
    """Samples, a proxy of the picture, and every candidate's figures."""

    def __init__(self, subject: Plane, background: Plane, proxy: Plane, names: tuple[str, ...]) -> None:
        self.subject, self.background, self.proxy, self.names = subject, background, proxy, names
        self.codes = candidates(len(names))
        self.edges = _edges(proxy)
        halves = np.array_split(self.codes, 2)
        with ThreadPoolExecutor(2) as pool:
            self.figures = np.concatenate(list(pool.map(lambda part: rank(subject, background, part), halves)))

    def rows(self, count: int) -> list[dict[str, Any]]:
        auc, error, fisher = self.figures.T
        separation = np.maximum(auc, 1 - auc)
        sound = self._sound()
        simplicity = np.array([self._cost(code) for code in self.codes])
        # The figures from histograms choose a shortlist; exact ones order it.
        order = np.lexsort((simplicity, -_steps(fisher), -np.round(separation + error, 4)))
        order = order[sound[order]]
        chosen, seen = [], set()
        for index in order:
            key = (round(float(separation[index]), 6), f"{fisher[index]:.4g}")
            if key not in seen:
                seen.add(key)
                chosen.append(int(index))
            if len(chosen) >= count + 12:
                break
        with ThreadPoolExecutor(2) as pool:
            rows = list(pool.map(self._row, chosen))
        rows.sort(
            key=lambda row: (
                -round(row["separation"], 4),
                -float(_steps(np.float64(row["fisher"]))),
                -round(row["edge_kept"], 2),
                row["cost"],
            )
        )
        distinct: dict[tuple[Any, ...], dict[str, Any]] = {}
        for row in rows:
            alike = (round(row["separation"], 5), f"{row['fisher']:.3g}", round(row["edge_kept"], 3))
            distinct.setdefault(alike, {key: value for key, value in row.items() if key != "cost"})
        return list(distinct.values())[:count]

    def _sound(self) -> NDArray[np.bool_]:
        """Which candidates can be a matte: all but divisions by next to nothing, or far beyond what channels show."""
        samples = np.concatenate([self.subject, self.background], axis=1)
        reach = REACH * max(1.0, float(np.quantile(np.abs(samples), 1 - OUTERMOST)))
        sound = np.ones(len(self.codes), np.bool_)
        for index in np.flatnonzero(self.codes[:, 2] == MODES.index("divide")):
            _, b, _, _, invert_b = self.codes[index]
            divisor = np.abs(1 - samples[b] if invert_b else samples[b])
            largest = np.quantile(np.abs(crossed(samples, self.codes[index])), 1 - OUTERMOST)
            sound[index] = np.quantile(divisor, OUTERMOST) >= NEAR_ZERO and largest <= reach
        return sound

    def _cost(self, code: NDArray[np.int32]) -> float:
        """Steps and turns that a candidate needs."""
        a, b, mode, invert_a, invert_b = (int(number) for number in code)
        made = sum(self.names[i] == LUMA or self.names[i].startswith("ink.") for i in {a, b})
        return 2 * made + (mode != SINGLE) + 0.25 * (invert_a + invert_b) + 0.01 * max(0, mode)

    def _row(self, index: int) -> dict[str, Any]:
        code = self.codes[index]
        inside, outside = (np.sort(crossed(planes, code)) for planes in (self.subject, self.background))
        inside, outside = (values[np.isfinite(values)] for values in (inside, outside))
        auc = exact_auc(inside, outside)
        black, white = best_stretch(inside, outside, bright=auc >= 0.5)
        plane = bounded(crossed(self.proxy.reshape(len(self.names), -1), code))
        kept, noise = quality(plane.reshape(self.proxy.shape[1:]), self.edges, black, white)
        a, b, mode, invert_a, invert_b = (int(number) for number in code)
        row: dict[str, Any] = {"a": self.names[a], "invert_a": bool(invert_a), "invert_b": bool(invert_b)}
        if mode != SINGLE:
            row |= {"b": self.names[b], "mode": MODES[mode]}
        return row | {
            "separation": max(auc, 1 - auc),
            "fisher": float(self.figures[index, 2]),
            "edge_kept": kept,
            "noise": noise,
            "direction": "bright" if auc >= 0.5 else "dark",
            "stretch": {"black": black, "white": white},
            "words": words(row),
            "cost": self._cost(code),
        }


def _steps(fisher: Any) -> Any:
    """Fisher ratios that differ by less than a fifth count as equal, so that edges can decide; so do all that are
    `PARTED_WELL` and more: of two sets without any spread the ratio says nothing."""
    return np.round(np.log(np.clip(fisher, 1e-9, PARTED_WELL)) / math.log(1.2))


def _edges(proxy: Plane) -> NDArray[np.bool_]:
    steepness = np.zeros(proxy.shape[1:], np.float32)
    for plane in proxy:
        down, across = np.gradient(plane) if min(plane.shape) > 1 else (np.zeros_like(plane), np.zeros_like(plane))
        steepness = np.maximum(steepness, np.hypot(down, across))
    return steepness > np.quantile(steepness, 1 - EDGES)


def exact_auc(subject: Plane, background: Plane) -> float:
    """Area under the ROC curve of two sorted sets: chance that a subject value is the larger; ties count half.

    0.5 where a set is empty.
    """
    if not subject.size or not background.size:
        return 0.5
    below = np.searchsorted(background, subject, "left") + np.searchsorted(background, subject, "right")
    return float(below.mean() / 2 / background.size)


def best_stretch(subject: Plane, background: Plane, *, bright: bool) -> tuple[float, float]:
    """Black and white post that put 98 % of each sorted set at its end, or as much of both as they allow."""
    if not subject.size or not background.size:
        return 0.0, 1.0
    if not bright:
        black, white = best_stretch(-subject[::-1], -background[::-1], bright=True)
        return -black, -white
    black = white = 0.0
    for part in np.linspace(PARTED, 0.5, 25):
        # Rounded outward, so that the posts hold at least that part of each set.
        black = _rounded(background[math.ceil(part * (background.size - 1))], up=True)
        white = _rounded(subject[math.floor((1 - part) * (subject.size - 1))], up=False)
        if black < white:
            break
    return (black, white) if black < white else (white, black if black > white else white + 1 / DIGITS)


DIGITS = 10_000


def _rounded(value: float, *, up: bool) -> float:
    scaled = float(value) * DIGITS
    return (math.ceil(scaled) if up else math.floor(scaled)) / DIGITS


def words(row: dict[str, Any]) -> str:
    """A candidate in words: "green with inverted blue, darken"."""

    def channel(key: str) -> str:
        name = row[key].rpartition(".")[2]
        return ("inverted " if row[f"invert_{key}"] else "") + _WORDS.get(name, name)

    if "mode" not in row:
        return f"{channel('a')} alone"
    return f"{channel('a')} with {channel('b')}, {row['mode'].replace('-', ' ')}"


def steps_of(row: dict[str, Any], picture: str) -> list[dict[str, Any]]:
    """A row as steps: what makes luminance or ink, the crossing, and its stretch. Names are proposals."""
    steps: list[dict[str, Any]] = []

    def address(name: str) -> str:
        step = {LUMA: ("luminance", "weigh", "from")}.get(name, ("ink", "ink_split", "picture"))
        if name != LUMA and not name.startswith("ink."):
            return f"{picture}.{name}"
        if all(made["name"] != step[0] for made in steps):
            steps.append({"name": step[0], "op": step[1], "in": {step[2]: picture}})
        return step[0] if name == LUMA else f"ink.{name.rpartition('.')[2]}"

    source = address(row["a"])
    if "mode" in row:
        inputs = {"a": source, "b": address(row["b"])}
        turned = {key: True for key in ("invert_a", "invert_b") if row[key]}
        steps.append({"name": "crossed", "op": "cross", "in": inputs, "set": {"mode": row["mode"]} | turned})
        source = "crossed"
    stretch = row["stretch"]
    if "mode" not in row and row["invert_a"]:
        stretch = {"black": 1 - stretch["black"], "white": 1 - stretch["white"]}
    steps.append({"name": "matte", "op": "stretch", "in": {"from": source}, "set": dict(stretch)})
    return steps


def whole_matte(picture: str, subject: Iterable[Mark], background: Iterable[Mark]) -> list[dict[str, Any]]:
    """Steps that make a whole matte of a picture from marks, and the subject's colour. Names are proposals."""
    strokes = [
        {"points": [[mark.x, mark.y]], "radius": mark.radius, "value": value}
        for value, marks in ((1.0, subject), (0.0, background))
        for mark in marks
    ]
    return [
        {"name": "matte", "op": "mark_solve", "in": {"picture": picture}, "set": {"strokes": strokes}},
        {"name": "cut", "op": "recover_colour", "in": {"picture": picture, "matte": "matte"}},
    ]
