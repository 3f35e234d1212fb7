"""The empty coloured screen behind a subject, estimated from the shot itself, or brought to the shot's light."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.denoising import NoiseModel, noise_of
from nexal.kernels.screening import SCREENS, screen_difference
from nexal.picture import Plane

Colour = NDArray[np.float32]
Mask = NDArray[np.bool_]
LEAST_LIGHT = 1e-4
PLATE_DOUBT, NEAR_DOUBT, FAR_DOUBT = 0.006, 0.006, 0.03
"""Relative standard deviation of a clean plate against the shot; of an estimate where bare screen is near; and what is
added where none is."""
WRONG = 0.12
"""Relative difference from the smooth surface beyond which a pixel is no bare screen."""
LEAST_BARE = 200
MOVED = 0.02
"""Relative difference of two frames' screens, in the median, from which they are not the same."""


def soft(plane: NDArray[Any], sigma: float) -> Colour:
    """A Gaussian of a plane, or of each plane of a stack, mirrored at the picture's ends."""
    if plane.ndim == 3:
        return np.stack([soft(each, sigma) for each in plane])
    made: Colour = cv2.GaussianBlur(
        np.ascontiguousarray(plane, np.float32), (0, 0), sigma, borderType=cv2.BORDER_REFLECT
    )
    return made


def eroded(mask: Mask, size: int) -> Mask:
    made: Mask = cv2.erode(mask.astype(np.uint8), np.ones((size, size), np.uint8)) > 0
    return made


def excess(colour: Colour, screen: str) -> Plane:
    """How much of the screen's colour there is: S - max(o1, o2)."""
    made: Plane = screen_difference(tuple(colour), screen, 0)
    return made


def commonest_screen(shot: Colour) -> str | None:
    """Which of red, green and blue a shot's screen is: the one whose excess covers most; None where none covers 5 %."""
    smooth = soft(shot, 1.5)
    covered = {}
    for screen in SCREENS:
        own = smooth[SCREENS[screen][0]]
        covered[screen] = float(np.mean(excess(smooth, screen) > 0.25 * np.maximum(own, 0.01)))
    best = max(covered, key=lambda name: covered[name])
    return best if covered[best] >= 0.05 else None


def bare_screen(shot: Colour, screen: str) -> Mask:
    """Pixels that are surely bare screen: their share of its colour, excess / S, is that of the purest large peak.

    Light alone changes nothing in that share; a veil or a cloth of nearly the same colour lies below it.
    """
    smooth = soft(shot, 1.5)
    much = excess(smooth, screen)
    strong = much > max(0.3 * float(np.percentile(much, 90)), LEAST_LIGHT)
    if not strong.any():
        return strong
    share = much / np.maximum(smooth[SCREENS[screen][0]], LEAST_LIGHT)
    counts, edges = np.histogram(share[strong], 60, (0.15, 1.0))
    counts = np.convolve(counts, (1, 2, 3, 2, 1), "same")
    peak = int(np.flatnonzero(counts > 0.35 * counts.max())[-1]) if counts.max() > 0 else 0
    top = float(edges[peak] + 0.5 * (edges[1] - edges[0]))
    return eroded(strong & (share > top - 0.05), 5)


def _basis(shape: tuple[int, ...], degree: int) -> Colour:
    y, x = np.mgrid[-1 : 1 : shape[0] * 1j, -1 : 1 : shape[1] * 1j].astype(np.float32)
    made: Colour = np.stack([x**i * y**j for i in range(degree + 1) for j in range(degree + 1 - i)], axis=-1)
    return made


def _shrunk(plane: Plane, by: int) -> Plane:
    size = (max(1, plane.shape[1] // by), max(1, plane.shape[0] // by))
    made: Plane = cv2.resize(plane, size, interpolation=cv2.INTER_AREA) if by > 1 else plane
    return made


def _surface(colour: Colour, mask: Mask, degree: int = 3) -> Colour:
    """A polynomial in x and y for each channel through the masked pixels, with Tukey's weights."""
    small = np.stack([_shrunk(plane, 4) for plane in colour])
    known = _shrunk(mask.astype(np.float32), 4)
    inside = known > 0.9
    if inside.sum() < LEAST_BARE:
        inside = known > 0.3
    if inside.sum() < 16:
        # Too little for a surface: its middle value.
        middle = np.median(colour[:, mask], axis=1) if mask.any() else colour.mean(axis=(1, 2))
        return np.broadcast_to(middle[:, None, None], colour.shape).astype(np.float32)
    columns = _basis(known.shape, degree)[inside].astype(np.float64)
    values = small[:, inside].T.astype(np.float64)
    weight = np.ones(len(values))
    found = np.zeros((columns.shape[1], 3))
    for _ in range(6):
        weighted = columns * weight[:, None]
        ridge = 1e-5 * len(weight) * weight.mean() * np.eye(columns.shape[1])
        found = np.linalg.solve(weighted.T @ columns + ridge, weighted.T @ values)
        fitted = columns @ found
        rest = np.sqrt((((values - fitted) / np.maximum(fitted, 1e-3)) ** 2).mean(axis=1))
        scale = max(1.48 * float(np.median(rest)), 2e-3)
        weight = np.clip(1 - (rest / (4.5 * scale)) ** 2, 0, 1) ** 2
        if weight.sum() < 16:
            break
    made: Colour = np.maximum(_polynomial(found, colour.shape[1:], degree), LEAST_LIGHT).astype(np.float32)
    return made


def _polynomial(found: NDArray[np.float64], shape: tuple[int, ...], degree: int) -> Colour:
    """3 x H x W: polynomials of the coefficients (as many as `_basis` has columns) x 3; row by row they are in x."""
    y, x = (np.linspace(-1, 1, side) for side in shape)
    powers = [(i, j) for i in range(degree + 1) for j in range(degree + 1 - i)]
    rows = np.zeros((3, len(y), degree + 1))
    for (i, j), parts in zip(powers, found, strict=True):
        rows[:, :, i] += parts[:, None] * y**j
    made: Colour = (rows @ np.stack([x**i for i in range(degree + 1)])).astype(np.float32)
    return made


def _carried(values: Colour, mask: Mask, sigmas: Sequence[float] = (3, 7, 16, 36, 80)) -> tuple[Colour, Plane]:
    """Masked values carried into the gaps, by the finest scale with enough known pixels; and how near those are."""
    known = mask.astype(np.float32)
    height, width = mask.shape
    left, near = np.ones_like(known), np.zeros_like(known)
    result = np.zeros_like(values)
    for index, sigma in enumerate(sigmas):
        by = 1 if sigma < 6 else 4 if sigma < 30 else 8

        def around(plane: Plane, by: int = by, sigma: float = sigma) -> Plane:
            made: Plane = cv2.resize(
                soft(_shrunk(plane, by), sigma / by), (width, height), interpolation=cv2.INTER_LINEAR
            )
            return made

        cover = around(known)
        take = left * np.clip(cover / 0.35, 0, 1)
        for plane, into in zip(values, result, strict=True):
            into += take * around(plane * known) / np.maximum(cover, 1e-6)
        left -= take
        if index < 2:
            near += take
    return result, near


def estimated(shot: Colour, bare: Mask, *, joined: bool = False) -> tuple[Colour, Plane]:
    """The empty screen, 3 x H x W, from what is bare of it, and its relative standard deviation.

    A smooth surface, and what it misses of the bare pixels, carried into the gaps. What is far from the surface is no
    screen, unless it was `joined` from several frames: what stands still in them stands behind the subject.
    """
    surface = _surface(shot, bare)
    rest = shot / surface - 1
    fits = bare & (np.abs(rest).max(axis=0) < 0.5) & (np.abs(soft(rest, 1.5)).max(axis=0) < WRONG)
    if joined:
        fits = bare
    field, near = _carried(rest, fits)
    plate = np.maximum(surface * (1 + field), LEAST_LIGHT).astype(np.float32)
    return plate, (NEAR_DOUBT + FAR_DOUBT * (1 - near)).astype(np.float32)


def joined(shot: Colour, bare: Mask, others: Sequence[Colour], screen: str) -> tuple[Colour, Mask]:
    """A shot with what it hides of the screen seen in other frames, and where the screen is known then.

    Each frame is brought to the light of the shot by a plane through the ratio of the two on what is bare in both, and
    bare screen is the mean of all that show it. One whose screen has nothing in common with the shot's, or has moved,
    is left out.
    """
    total, count = shot * bare, bare.astype(np.float32)
    for other in others:
        seen = bare_screen(other, screen)
        both = seen & bare
        if both.sum() < LEAST_BARE:
            continue
        ratio = soft(shot, 3) / np.maximum(soft(other, 3), LEAST_LIGHT)
        light = _surface(np.asarray(ratio, np.float32), both, 1)
        own = SCREENS[screen][0]
        if float(np.median(np.abs(ratio / light - 1)[own][both])) > MOVED:
            continue
        total += other * light * seen
        count += seen
    known = count > 0
    return np.where(known, total / np.maximum(count, 1), shot).astype(np.float32), known


def settled(plate: Colour, noise: NoiseModel) -> Colour:
    """A clean plate without its own noise, where that is more than a tenth of the shot's."""
    own = noise_of(plate)
    level = max(float(np.median(plate)), 1e-3)
    share = (own.base + own.slope * level) / max(noise.base + noise.slope * level, 1e-9)
    return soft(plate, 2.0) if share > 0.1 else plate


def relit(shot: Colour, plate: Colour, screen: str) -> tuple[Colour, Plane]:
    """A clean plate in the light of the shot, where the two differ on the bare screen; its relative standard deviation.

    Most of a plate that is right agrees with the shot; what hair or a veil leaves in the mask makes it not wrong.
    """
    bare = bare_screen(shot, screen) & (excess(plate, screen) > 0)
    doubt = np.full(plate.shape[1:], PLATE_DOUBT, np.float32)
    ratio = soft(shot, 3) / np.maximum(soft(plate, 3), LEAST_LIGHT) - 1
    wide = eroded(bare, 13)
    wide = wide if wide.sum() > 2000 else bare
    own = SCREENS[screen][0]
    if wide.sum() < 500 or np.mean(np.abs(ratio[own][wide]) < 0.012) > 0.4:
        return plate, doubt
    surface = _surface((ratio + 1).astype(np.float32), wide) - 1
    fits = bare & (np.abs(ratio - surface)[own] < 0.03)
    rest = np.where(fits, shot / np.maximum(plate, LEAST_LIGHT) - 1 - surface, 0).astype(np.float32)
    field, near = _carried(rest, fits, (7, 16, 36, 80))
    return (plate * (1 + surface + field)).astype(np.float32), doubt + np.float32(0.01) * (1 - near)
