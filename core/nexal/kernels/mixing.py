"""The one rule by which neighbouring pixels are averaged, whatever averages them.

Colour is averaged as premultiplied light and goes back to the state it had; alpha, coverage and masks as they are;
data that may be empty (depth, position...) over the samples that hold something; ids are taken singly, with every
digit. See "Mixing, in one place" in the design.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from nexal.picture import NOTHING_FROM, Alpha, Description, Plane, Window

Filter = Callable[[Plane], Plane]
"""Takes a plane to its average (or to single samples of it); linear, and the same for every plane it is given."""

CLEAR = np.float32(1e-6)
"""Alpha up to which nothing can be told of a colour by dividing: there it is averaged as it lies, unseen; and the light
that may be gained or lost by that, since what lies unseen may be of any size."""
HELD = np.float32(0.25)
"""Share of the weight that must hold something, where weights may be negative: below it a quotient could run away."""
WHOLE = np.float32(1e-5)


def mixed(
    planes: Mapping[str, Plane],
    channels: Sequence[str],
    description: Description,
    average: Filter,
    single: Filter,
    *,
    staying: Collection[str] = (),
    inside: Plane | None = None,
) -> dict[str, Plane]:
    """The named channels of a picture averaged by `average`, or, where there is no average, sampled by `single`.

    `planes` holds them (H x W) and, of colour, the alpha that belongs to it. `average` is linear in its plane and
    leaves a constant as it is, but for what lies outside of the picture. Straight colour c under alpha a becomes
    average(c a) / average(a), and where average(a) is 0 the average of what lies unseen; colour under no alpha weighs
    nothing, so that a value that is no number stays where it is not seen. Premultiplied colour whose alpha is among
    the `staying` ones, which are not averaged, goes back under that alpha: average(c a) / average(a) a. `inside` is 0
    where the planes lie outside of their data window: there is no depth, which is not a depth of 0.
    """
    averaged: dict[str, Plane] = {}
    result: dict[str, Plane] = {}
    for name in channels:
        trait = description.trait(name)
        plane = planes[name]
        alpha = description.alpha_of(name) if name not in description.data else None
        if trait.is_label:
            result[name] = single(plane)
        elif trait.may_be_empty:
            result[name] = _over_valid(plane, average, single, inside)
        elif (
            alpha is None
            or description.alpha is Alpha.NONE
            or (description.alpha is Alpha.PREMULTIPLIED and alpha not in staying)
        ):
            result[name] = average(plane)
        else:
            if alpha not in averaged:
                averaged[alpha] = average(planes[alpha])
            straight = description.alpha is Alpha.STRAIGHT
            light = lit(plane, planes[alpha]) if straight else plane
            colour = _divided(average(light), averaged[alpha], plane, planes[alpha], average)
            result[name] = colour if straight else colour * single(planes[alpha])
    return result


def lit(colour: Plane, alpha: Plane) -> Plane:
    """Premultiplied light c a of straight colour c under alpha a, both H x W; nothing where a is 0, whatever c is there
    (Porter, Duff, SIGGRAPH 1984)."""
    with np.errstate(invalid="ignore", over="ignore"):
        light = colour * alpha
    return light if np.isfinite(colour).all() else np.where(alpha == 0, np.float32(0), light)


def _divided(light: Plane, share: Plane, colour: Plane, alpha: Plane, average: Filter) -> Plane:
    """Straight colour of averaged light and alpha; where that is as good as 0, the average of what lies unseen, if it
    stays unseen under what alpha there is."""
    seen = np.abs(share) > CLEAR
    with np.errstate(all="ignore"):
        divided = np.divide(light, share)
        if seen.all():
            return divided
        # Mostly nothing lies hidden: then there is nothing to average.
        unseen = average(colour) if np.any(colour[alpha == 0]) else np.float32(0)
        return np.where(seen | ((share != 0) & ~(np.abs(unseen * share - light) <= CLEAR)), divided, unseen)


def holds_something(plane: Plane) -> NDArray[np.bool_]:
    """Where a plane H x W of depth or position holds a number smaller in size than `NOTHING_FROM`: H x W of bool."""
    with np.errstate(invalid="ignore"):
        return np.abs(plane) < NOTHING_FROM


def _over_valid(plane: Plane, average: Filter, single: Filter, inside: Plane | None) -> Plane:
    """The average of what holds something; a single sample where too little of it does."""
    valid = holds_something(plane)
    if inside is not None:
        valid &= inside > 0
    if valid.all():
        return average(plane)
    total = average(np.where(valid, plane, np.float32(0)))
    share = average(valid.astype(np.float32))
    with np.errstate(all="ignore"):
        quotient = np.where(np.abs(share - 1) < WHOLE, total, total / share)
    return np.where(share >= HELD, quotient, single(plane))


def block_means(plane: Plane, window: Window, n: int) -> Plane:
    """Means of blocks of n x n pixels anchored at 0, 0; of one that the window covers in part, the mean of the part.

    `plane` covers `window` (H x W); the result covers `window.scaled(1/n)`.
    """
    import cv2

    top, left = window.y % n, window.x % n
    height, width = plane.shape
    pad = ((top, -(top + height) % n), (left, -(left + width) % n))
    padded = np.pad(plane, pad) if np.any(pad) else np.ascontiguousarray(plane)
    size = (padded.shape[1] // n, padded.shape[0] // n)
    with np.errstate(all="ignore"):
        means: Plane = cv2.resize(padded, size, interpolation=cv2.INTER_AREA)
        if np.any(pad):
            rows, columns = (
                np.float32(n) / np.clip(np.minimum(np.arange(1, count + 1) * n, first + length)
                                        - np.maximum(np.arange(count) * n, first), 1, n).astype(np.float32)
                for count, first, length in ((size[1], top, height), (size[0], left, width))
            )  # fmt: skip
            means = means * rows[:, None] * columns[None, :]
    return means


def block_samples(plane: Plane, window: Window, n: int) -> Plane:
    """One sample of each block of n x n pixels anchored at 0, 0: the first that lies in the window.

    `plane` covers `window` (H x W, any type); the result covers `window.scaled(1/n)`, in the same type.
    """
    rows, columns = (
        np.unique(np.maximum(np.arange(start // n, -(-(start + length) // n)) * n - start, 0))
        for start, length in ((window.y, plane.shape[0]), (window.x, plane.shape[1]))
    )
    return np.ascontiguousarray(plane[np.ix_(rows, columns)])


def reduced(
    planes: Mapping[str, Plane], channels: Sequence[str], description: Description, window: Window, n: int
) -> dict[str, Plane]:
    """The named channels over `window` at a proxy scale 1/n; `planes` holds them and their alphas in full size."""
    return mixed(
        planes,
        channels,
        description,
        lambda plane: block_means(plane, window, n),
        lambda plane: block_samples(plane, window, n),
    )


def with_alphas(channels: Sequence[str], description: Description) -> tuple[str, ...]:
    """The channels, and the alphas that averaging them needs, in the picture's order."""
    wanted = {*channels}
    if description.alpha is not Alpha.NONE:
        wanted |= {alpha for name in channels if name not in description.data and (alpha := description.alpha_of(name))}
    return tuple(name for name in description.channels if name in wanted)
