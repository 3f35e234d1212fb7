"""What neighbours on the same ray tell of a pixel before a known screen: is it solid, or partly covered?

With I the shot and B the screen, J = I - B = a (F - B): pixels of one colour of the subject lie on a ray from 0, in the
order of their alpha. On a solid they lie together at its end; in hair, blur and veils they are spread along it.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.surfaces import FAST
from nexal.kernels.threads import spread
from nexal.picture import Plane

RADII, ARMS = (2, 4, 7, 11, 16, 24, 36, 52), 10
REACH = 53
"""Pixels that a pixel's neighbours lie within."""
PARALLEL, LEAST_LENGTH, LEAST_SIGNAL = 0.08, 0.15, 6.0
"""Radians up to which two are parallel, the share of a pixel's length that a mate has at least, and how many times its
noise's variance the square of a length has to be."""
ALIKE = (0.93, 1.075)
"""Ratios of lengths that count as the same alpha."""
LONGER = 1.05
ROWS = 32


def neighbours() -> NDArray[np.int64]:
    """Offsets (y, x) of the 80 neighbours that a pixel is compared with: on rings, ever farther apart."""
    turns = [
        (radius, 2 * math.pi * (arm + 0.37 * ring) / ARMS) for ring, radius in enumerate(RADII) for arm in range(ARMS)
    ]
    return np.array([(round(r * math.sin(t)), round(r * math.cos(t))) for r, t in turns], np.int64)


@numba.njit(**FAST)
def _facts(
    away: NDArray[np.float32], variance: NDArray[np.float32], offsets: NDArray[np.int64], top: int, bottom: int,
    share: Plane, mates: Plane, purity: Plane,
) -> None:  # fmt: skip
    _, height, width = away.shape
    longer = np.empty(len(offsets))
    for y in range(top, bottom):
        for x in range(width):
            share[y, x], mates[y, x], purity[y, x] = 0.0, 0.0, 1.0
            a0, a1, a2 = away[0, y, x], away[1, y, x], away[2, y, x]
            own = a0 * a0 + a1 * a1 + a2 * a2
            noise = variance[0, y, x] + variance[1, y, x] + variance[2, y, x]
            if own < LEAST_SIGNAL * noise:
                continue
            same = partial = count = 0
            for k in range(len(offsets)):
                v, u = y + offsets[k, 0], x + offsets[k, 1]
                if v < 0 or v >= height or u < 0 or u >= width:
                    continue
                b0, b1, b2 = away[0, v, u], away[1, v, u], away[2, v, u]
                other = b0 * b0 + b1 * b1 + b2 * b2
                along = a0 * b0 + a1 * b1 + a2 * b2
                if along <= 0 or other < LEAST_LENGTH * LEAST_LENGTH * own:
                    continue
                other_noise = variance[0, v, u] + variance[1, v, u] + variance[2, v, u]
                if other < LEAST_SIGNAL * other_noise:
                    continue
                # What is left of the shorter one when its part along the longer is taken away.
                if other >= own:
                    part = along / other
                    rest, size, allowed = own - part * along, own, noise + part * part * other_noise
                else:
                    part = along / own
                    rest, size, allowed = other - part * along, other, other_noise + part * part * noise
                if rest > 2 * allowed + PARALLEL * PARALLEL * size:
                    continue
                ratio = math.sqrt(other / own)
                if ALIKE[0] < ratio < ALIKE[1]:
                    same += 1
                else:
                    partial += 1
                if ratio > LONGER:
                    longer[count] = ratio
                    count += 1
            mates[y, x] = same + partial
            if same + partial > 0:
                share[y, x] = same / (same + partial)
            if count > 2:
                purity[y, x] = np.sort(longer[:count])[int(0.8 * (count - 1))]


def ray_facts(
    away: NDArray[np.float32], variance: NDArray[np.float32], check: Callable[[], None]
) -> tuple[Plane, Plane, Plane]:
    """Of J and its noise's variance (3 x H x W): the share of a pixel's mates that lie as far out as it, how many mates
    it has, and its purity: the 80th percentile of how much longer the longer ones are, else 1.

    Mates are neighbours whose J is parallel to the pixel's, within the noise.
    """
    height, width = away.shape[1:]
    made = tuple(np.empty((height, width), np.float32) for _ in range(3))
    offsets = neighbours()

    def strip(top: int) -> None:
        check()
        _facts(away, variance, offsets, top, min(top + ROWS, height), *made)

    spread(strip, range(0, height, ROWS))
    return made[0], made[1], made[2]
