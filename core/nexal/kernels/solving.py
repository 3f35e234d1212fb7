"""A whole matte before a coloured screen from nothing but the shot, and how unsure each pixel of it is.

The shot is freed of noise by its own model, the screen estimated or brought to the shot's light. What neighbours on the
same ray tell says where the subject is solid; its colours there are the palette; each pixel's alpha is the mean of what
screen, noise and palette leave likely, with neighbours as a prior. Figures: docs/architecture.md.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels import screens
from nexal.kernels.denoising import SEARCH, STRENGTH, averaged, noise_of
from nexal.kernels.posterior import Palette, likelihood, weighed
from nexal.kernels.rays import ray_facts
from nexal.kernels.screening import SCREENS
from nexal.kernels.screens import LEAST_LIGHT, Colour, Mask, eroded, excess, soft
from nexal.kernels.shelf import Shelf, key_of
from nexal.kernels.surfaces import FAST
from nexal.kernels.threads import spread
from nexal.picture import Plane

SOLID_SHARE, SOLID_PURITY, SOLID_PULL = 0.45, 1.15, 0.5
STRAND_PURITY, STRAND_PULL, STRAND_MATES = 1.06, 0.8, 3
COLOURS, REACH, RATIO = 16, 20.0, 4
WIDER, EVERYWHERE = 0.3, 0.01
"""Weights of a palette colour three times as far as it reaches, and far from wherever it was seen."""
GREYS, UNSEEN, UNSEEN_HUE = (0.03, 0.12, 0.35, 0.8), 0.1, 0.06
"""Colours that were seen nowhere, their weight together, and the share of their variance that is not light alone."""
SPILL, SHADE, USUAL_SPILL = 0.03, 0.1, 0.04
"""Standard deviations of spill and light about the palette, as shares of the screen's and of the colour; the excess of
a colour whose own was never seen."""
MOST_SPILL, SPILL_REACH = (0.08, 0.16), 6.0
"""Share of the screen's light, about a pixel (sigma in px), up to which it is spill, and from which it is none."""
VEIL_ANGLE, VEIL_LOW, VEIL_HIGH = 0.12, 0.25, 0.45
SWEEPS, MIXING, ROWS = 4, 2.0, 32
LEAST_CORE, LEAST_MEMBERS, UNSEEN_SHARE = 60, 8, 1e-3
"""Pixels that a subject's solid part, and each of its colours, has at least; what share an unseen one counts for."""
SURE_SHARE, SURE_DEPTH, SURE_VARIANCE = 0.6, 9, 1e-5
"""Share of alike mates, and side of the square of such pixels round it, from which a pixel is surely subject; and the
variance of its alpha."""
SAID_REACH = 17
"""Side of the square round what is said to be screen in which nothing is sure."""
MOST_WHOLE = 640 * 360
"""Pixels up to which a first round is made of the whole picture."""
LEAST_BARE = 64
"""Pixels of bare screen that a screen is told from."""
BARE = 12.0
"""Square of the difference from the screen, by noise and doubt, summed over the channels, up to which a pixel is it."""


@dataclass(frozen=True)
class Solved:
    """Alpha, its standard deviation, and how much of the screen's light lies on the subject, as a share of it."""

    alpha: Plane
    doubt: Plane
    spill: Plane


def _pull(shot: Colour, plate: Colour, screen: str) -> Plane:
    return np.asarray(1 - excess(shot, screen) / np.maximum(excess(plate, screen), LEAST_LIGHT), np.float32)


def _centres(colours: NDArray[np.float32]) -> NDArray[np.float32]:
    """Up to sixteen colours that stand for many, K x 3, as the square roots of their light."""
    random = np.random.default_rng(0)
    seen = _rooted(colours)
    some = seen[random.choice(len(seen), min(len(seen), 8000), replace=False)]
    count = min(COLOURS, max(1, len(some) // 60))
    cv2.setRNGSeed(1)
    stop = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 15, 1e-4)
    labels = np.zeros((len(some), 1), np.int32)
    _, _, centres = cv2.kmeans(some, count, labels, stop, 1, cv2.KMEANS_PP_CENTERS)
    return np.asarray(centres, np.float32)


def _rooted(colours: NDArray[np.float32]) -> NDArray[np.float32]:
    made: NDArray[np.float32] = np.sqrt(np.maximum(colours, 0)).astype(np.float32)
    return made


@dataclass(frozen=True)
class Held:
    """The colours of a subject as another frame showed them: `centres` (see `_centres`), their means and covariances,
    and how surely each is a veil's thickest part. One whose mean is not known was seen too rarely."""

    centres: NDArray[np.float32]
    mean: dict[int, NDArray[np.float64]]
    cov: dict[int, NDArray[np.float64]]
    veil: dict[int, float]


@dataclass(frozen=True)
class _Known:
    """What is known of a shot before its alphas: the difference from the screen, its noise, the plain pull, solids."""

    away: Colour
    plate: Colour
    variance: Colour
    pull: Plane
    solid: Mask
    strand: Mask
    share: Plane
    screen: str


def _veil(known: _Known, member: Mask, mean: NDArray[np.float64]) -> float:
    """How surely a palette colour is a veil's thickest part: little of what lies on its ray lies at the ray's end."""
    way = mean[:, None, None].astype(np.float32) - known.plate
    square = (way * way).sum(axis=0)
    alpha = (known.away * way).sum(axis=0) / square
    rest = ((known.away - alpha * way) ** 2).sum(axis=0)
    near = cv2.blur(member.astype(np.float32), (161, 161), borderType=cv2.BORDER_CONSTANT) > 1e-4
    on_ray = near & (rest < 2 * known.variance.sum(axis=0) + (VEIL_ANGLE * alpha) ** 2 * square)
    end = int((on_ray & (alpha > 0.93) & (alpha < 1.1)).sum())
    part = int((on_ray & (alpha > 0.2) & (alpha <= 0.93)).sum())
    share = end / max(end + part, 1)
    return float(1 - np.clip((share - VEIL_LOW) / (VEIL_HIGH - VEIL_LOW), 0, 1))


def _colours(known: _Known, *, veils: bool) -> Held | None:
    """The colours of the subject where it is solid, or a strand; None where hardly any of it is."""
    core = known.solid | known.strand
    if core.sum() < LEAST_CORE:
        return None
    own = _strands(known)
    colour = known.plate + known.away / own
    wide = known.plate.mean(axis=(1, 2)).astype(np.float64)
    made = Held(_centres(colour[:, core].T), {}, {}, {})
    labels = _labels(colour, core, made.centres)
    for index in range(len(made.centres)):
        member = labels == index
        if member.sum() < LEAST_MEMBERS:
            continue
        samples = colour[:, member].T.astype(np.float64)
        middle = samples.mean(axis=0)
        made.veil[index] = 0.0
        lean = 1 - float(np.median(known.pull[member] / own[member]))
        if lean > USUAL_SPILL and veils:
            veil = _veil(known, member, middle)
            made.veil[index] = veil
            alpha = 1 - veil * (1 - (1 - lean) / (1 - USUAL_SPILL))
            if alpha < 0.99:
                under = known.plate[:, member].T
                samples = under + (samples - under) / alpha
                middle = samples.mean(axis=0)
        made.mean[index] = middle
        made.cov[index] = (
            np.cov(samples.T) + SPILL**2 * np.outer(wide, wide) + SHADE**2 * np.outer(middle, middle) + 4e-6 * np.eye(3)
        )
    return made


def _strands(known: _Known) -> Plane:
    """The alpha that is taken for each solid and strand, 1 for solids."""
    own = np.ones_like(known.pull)
    own[known.strand] = np.clip(known.pull[known.strand] / (1 - USUAL_SPILL), 0.5, 1)
    return own


def _labels(colour: Colour, core: Mask, centres: NDArray[np.float32]) -> NDArray[np.int32]:
    """H x W: the nearest of some centres where a picture's core is, -1 elsewhere."""
    labels = np.full(core.shape, -1, np.int32)
    height = core.shape[0]

    def strip(top: int) -> None:
        _nearest(colour, core, centres, top, min(top + ROWS, height), labels)

    spread(strip, range(0, height, ROWS))
    return labels


@numba.njit(**FAST)
def _nearest(
    colour: NDArray[np.float32], core: NDArray[np.bool_], centres: NDArray[np.float32], top: int, bottom: int,
    labels: NDArray[np.int32],
) -> None:  # fmt: skip
    for y in range(top, bottom):
        for x in range(core.shape[1]):
            if not core[y, x]:
                continue
            r = math.sqrt(max(colour[0, y, x], np.float32(0)))
            g = math.sqrt(max(colour[1, y, x], np.float32(0)))
            b = math.sqrt(max(colour[2, y, x], np.float32(0)))
            best = np.inf
            for k in range(len(centres)):
                far = (r - centres[k, 0]) ** 2 + (g - centres[k, 1]) ** 2 + (b - centres[k, 2]) ** 2
                if far < best:
                    best = far
                    labels[y, x] = k


def _palette(known: _Known, colours: Held | None) -> tuple[Palette, Plane]:
    """What colours weigh at each pixel, by where each is near; and where they are those of veils."""
    height, width = known.pull.shape
    size = (-(-width // RATIO), -(-height // RATIO))
    core = known.solid | known.strand
    mean: list[Any] = []
    cov: list[Any] = []
    weight: list[Plane] = []
    thin = np.zeros_like(known.pull)
    if colours is not None:
        labels = _labels(known.plate + known.away / _strands(known), core, colours.centres)
        for index, middle in colours.mean.items():
            member = labels == index
            thin[member] = colours.veil[index]
            mean.append(middle)
            cov.append(colours.cov[index])
            part = cv2.resize(member.astype(np.float32), size, interpolation=cv2.INTER_AREA)
            local = soft(part, REACH / RATIO) + np.float32(WIDER) * soft(part, 3 * REACH / RATIO)
            # One that another frame showed may not be seen in this.
            share = float(member.sum() / core.sum()) if member.any() else UNSEEN_SHARE
            weight.append(local + np.float32(EVERYWHERE * share))
    for level in GREYS:
        grey = np.full(3, level)
        grey[SCREENS[known.screen][0]] *= 0.97
        mean.append(grey)
        free = (1 - UNSEEN_HUE) * np.ones((3, 3)) + UNSEEN_HUE * np.eye(3)
        cov.append((0.5 * level) ** 2 * free + 1e-5 * np.eye(3))
        weight.append(np.full(size[::-1], UNSEEN / len(GREYS), np.float32))
    weights = np.stack(weight, axis=-1).astype(np.float64)
    weights /= weights.sum(axis=-1, keepdims=True)
    return Palette(np.array(mean), np.array(cov), np.ascontiguousarray(weights), RATIO), thin


def _known(away: Colour, plate: Colour, variance: Colour, screen: str, check: Callable[[], None]) -> _Known:
    pull = _pull(away + plate, plate, screen)
    share, mates, purity = ray_facts(away, variance, check)
    share = cv2.blur(share, (3, 3))
    solid = eroded((share > SOLID_SHARE) & (purity < SOLID_PURITY) & (pull > SOLID_PULL), 3)
    strand = ~solid & (purity < STRAND_PURITY) & (pull > STRAND_PULL) & (mates > STRAND_MATES)
    return _Known(away, plate, variance, pull, solid, strand, share, screen)


@dataclass
class _Facts:
    """What alphas are found from: all that does not depend on what somebody says is subject or screen.

    `logs` are the likelihoods (H x W x 21) of what is `told`: what may be anything but bare screen or `sure`
    subject, and what was asked for since.
    """

    known: _Known
    doubt: Plane
    palette: Palette
    thin: Plane
    sure: Mask
    todo: Mask
    told: Mask
    logs: NDArray[np.float32]

    @property
    def nbytes(self) -> int:
        planes = (self.known.away, self.known.plate, self.known.variance, self.known.pull, self.known.share)
        return self.logs.nbytes + sum(plane.nbytes for plane in (*planes, self.doubt, self.thin))


def _facts(known: _Known, doubt: Plane, colours: Held | None, report: Callable[[float], None]) -> _Facts:
    square = known.variance + (doubt * known.plate) ** 2
    todo = cv2.dilate(((known.away**2 / square).sum(axis=0) > BARE).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    palette, thin = _palette(known, colours)
    # Deep inside of what is solid there is nothing to find out.
    sure = eroded(known.solid & (known.share > SURE_SHARE) & (thin == 0), SURE_DEPTH)
    todo &= ~sure
    logs = likelihood(known.away, known.plate, known.variance, doubt, palette, todo, report)
    return _Facts(known, doubt, palette, thin, sure, todo, todo, logs)


def _alphas(facts: _Facts, keep: Plane | None, drop: Plane | None, check: Callable[[], None]) -> NDArray[np.float32]:
    """4 x H x W: alpha, its variance, how likely it is 0 and 1."""
    known, todo = facts.known, facts.todo
    if keep is not None:
        todo = todo | (keep > 0)
    if drop is not None:
        # What is said to be screen inside of the subject is no end of it: its surroundings are asked again.
        todo = todo | (cv2.dilate(drop, np.ones((SAID_REACH, SAID_REACH), np.uint8)) > 0)
    if keep is not None or drop is not None:
        wanted = todo & ~facts.told
        if wanted.any():
            more = likelihood(
                known.away, known.plate, known.variance, facts.doubt, facts.palette, wanted, lambda done: check()
            )
            facts.logs[wanted] = more[wanted]
            facts.told = facts.told | wanted
    sure = (
        np.clip((known.share - 0.25) / 0.35, 0, 1) * (known.pull > 0.4) * (1 - np.minimum(1, 1.5 * soft(facts.thin, 4)))
    )
    first = np.stack([0.3 * (1 - sure) + 0.02, 0.6 - 0.3 * sure, 0.08 + 0.6 * sure]).astype(np.float32)
    for said, at in ((keep, 2), (drop, 0)):
        if said is not None:
            one = np.zeros((3, 1, 1), np.float32)
            one[at] = 1
            first = first * (1 - said) + one * said
    first /= first.sum(axis=0)
    prior = first
    found = np.zeros((4, *known.pull.shape), np.float32)
    found[2] = ~facts.sure
    found[0] = found[3] = facts.sure
    found[1] = facts.sure * np.float32(SURE_VARIANCE)
    for _ in range(SWEEPS):
        check()
        weighed(facts.logs, prior, todo, found)
        classes = np.stack([found[2], np.clip(1 - found[2] - found[3], 0, 1), found[3]])
        prior = np.sqrt(first * (soft(classes, MIXING) * np.float32(0.97) + np.float32(0.01)))
        prior /= prior.sum(axis=0)
    return found


_shelf = Shelf[_Facts]()


def solve(
    shot: Colour, screen: str, plate: Colour | None, report: Callable[[float], None], *, keep: Plane | None = None,
    drop: Plane | None = None, veils: bool = True, held: Colour | None = None,
) -> Solved:  # fmt: skip
    """The matte of a shot (3 x H x W, scene-linear) before a `screen` of red, green or blue, with a clean plate or
    without. `keep` and `drop` (H x W, 0..1): what is surely subject, or surely not; asked again with others of them it
    is answered from what is known of the shot. `held` is the shot at another frame, whose colours of the subject are
    taken, so that they do not change from frame to frame. `report` is told the part that is done, and may raise."""
    # Where hardly any screen is bare, what is said to be screen has to tell of it.
    bare = None if plate is not None else screens.bare_screen(shot, screen)
    if bare is not None and drop is not None and bare.sum() < LEAST_BARE:
        bare |= drop > 0.5
    key = key_of(shot, screen, plate, bare, veils, held)
    facts = _shelf.take(key) or _studied(shot, screen, plate, bare, held, report, veils=veils)
    try:
        found = _alphas(facts, keep, drop, lambda: report(0.95))
    finally:
        _shelf.put(key, facts, facts.nbytes)
    alpha, deviation = found[0], np.sqrt(found[1])
    for said, value in ((keep, 1), (drop, 0)):
        if said is not None:
            alpha = alpha + (value - alpha) * said
            deviation = deviation * (1 - said)
    alpha = np.clip(alpha, 0, 1).astype(np.float32, copy=False)
    return Solved(alpha, deviation, _spill(facts.known, alpha))


def _spill(known: _Known, alpha: Plane) -> Plane:
    """The screen's light that is seen on the subject, as a share of it; a subject of nearly the screen's colour is told
    by having far more of it than any spill."""
    own = known.away + alpha * known.plate
    share = excess(own, known.screen) / np.maximum(excess(known.plate, known.screen), LEAST_LIGHT)
    over: Plane = np.clip(share, 0, alpha)
    around = soft(over, SPILL_REACH) / np.maximum(soft(alpha, SPILL_REACH), 1e-3)
    low, high = MOST_SPILL
    made: Plane = over * np.clip((high - around) / (high - low), 0, 1)
    return made


def _studied(
    shot: Colour, screen: str, plate: Colour | None, bare: Mask | None, held: Colour | None,
    report: Callable[[float], None], *, veils: bool,
) -> _Facts:  # fmt: skip
    """All that is known of a shot: with a plate, or by two rounds, the second with the screen that the first leaves."""
    begun, colours = 0.0, None
    if held is not None:
        colours = _held(held, screen, plate, lambda done: report(0.45 * done), veils=veils)
        begun = 0.45

    def part(low: float, high: float) -> Callable[[float], None]:
        return lambda done: report(begun + (1 - begun) * (low + (high - low) * done))

    noise = noise_of(shot)
    variance = noise.variance(shot)
    if plate is not None:
        used, doubt = screens.relit(shot, screens.settled(plate, noise), screen)
    else:
        assert bare is not None
        used, doubt = screens.estimated(shot, bare)
    away, factor = averaged(shot - used, variance, SEARCH, STRENGTH, part(0.0, 0.35))
    variance = variance * factor
    clean = away + used

    def round_of(away: Colour, used: Colour, variance: Colour, doubt: Plane, low: float, high: float) -> _Facts:
        known = _known(away, used, variance, screen, lambda: part(low, high)(0.0))
        return _facts(known, doubt, colours or _colours(known, veils=veils), part(low, high))

    if plate is not None:
        return round_of(away, used, variance, doubt, 0.35, 0.95)
    # The first round only has to tell what is bare: of a large picture, half its size tells as much.
    half = shot[0].size > MOST_WHOLE
    if half:
        first = round_of(_halved(away), _halved(used), _halved(variance), _halved(doubt), 0.35, 0.5)
    else:
        first = round_of(away, used, variance, doubt, 0.35, 0.5)
    empty = _alphas(first, None, None, lambda: part(0.5, 0.55)(0.0))[2]
    if half:
        empty = cv2.resize(empty, shot.shape[:0:-1], interpolation=cv2.INTER_LINEAR)
    used, doubt = screens.estimated(shot, eroded(empty > 0.95, 5 if half else 3))
    return round_of(clean - used, used, variance, doubt, 0.6, 0.95)


def _halved(planes: NDArray[np.float32]) -> NDArray[np.float32]:
    """A plane, or a stack of them, in half its size."""
    if planes.ndim == 3:
        return np.stack([_halved(plane) for plane in planes])
    size = (-(-planes.shape[1] // 2), -(-planes.shape[0] // 2))
    made: NDArray[np.float32] = cv2.resize(planes, size, interpolation=cv2.INTER_AREA)
    return made


_palettes = Shelf[Held]()


def _held(
    shot: Colour, screen: str, plate: Colour | None, report: Callable[[float], None], *, veils: bool
) -> Held | None:
    """The colours of the subject in a frame, found once for all frames that take them."""
    key = key_of(shot, screen, plate, veils)
    colours = _palettes.take(key)
    if colours is None:
        bare = None if plate is not None else screens.bare_screen(shot, screen)
        colours = _colours(_studied(shot, screen, plate, bare, None, report, veils=veils).known, veils=veils)
    if colours is not None:
        _palettes.put(key, colours, 1 << 20)
    return colours
