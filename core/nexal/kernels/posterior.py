"""How likely each alpha of a pixel is, by its screen, its noise and a palette of the subject's colours."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.surfaces import FAST
from nexal.kernels.threads import spread
from nexal.picture import Plane

LEVELS = 20
"""Alphas between 0 and 1 that are compared, one less than there are."""
HEAVIEST = 8
"""Colours of the palette that count at a pixel."""
NEGLIGIBLE = 60.0
"""By how much a colour's square is larger than the nearest one's, for it to count for nothing."""
ROWS = 16


@dataclass(frozen=True)
class Palette:
    """Colours of a subject: `mean` K x 3, `spread` K x 3 x 3 (covariances), `weight` h x w x K, each pixel's summing to
    1, at a `ratio`-th of the picture's size."""

    mean: NDArray[np.float64]
    spread: NDArray[np.float64]
    weight: NDArray[np.float64]
    ratio: int = 4


@numba.njit(inline="always")
def _square(r0, r1, r2, a, b, c, d, e, f):  # type: ignore[no-untyped-def]
    """Of a residual by the covariance [[a b c] [b d e] [c e f]], and that one's determinant."""
    i00, i01, i02 = d * f - e * e, c * e - b * f, b * e - c * d
    whole = a * i00 + b * i01 + c * i02
    i11, i12, i22 = a * f - c * c, b * c - a * e, a * d - b * b
    square = i00 * r0 * r0 + i11 * r1 * r1 + i22 * r2 * r2 + 2 * (i01 * r0 * r1 + i02 * r0 * r2 + i12 * r1 * r2)
    return square / whole, whole


@numba.njit(**FAST)
def _likely(
    away: NDArray[np.float32], screen: NDArray[np.float32], variance: NDArray[np.float32], doubt: Plane,
    mean: NDArray[np.float64], cov: NDArray[np.float64], weight: NDArray[np.float64], ratio: int,
    todo: NDArray[np.bool_], top: int, bottom: int, result: NDArray[np.float32],
) -> None:  # fmt: skip
    width, count = away.shape[2], mean.shape[0]
    pick = np.empty(count, np.int64)
    squares, shares = np.empty(HEAVIEST), np.empty(HEAVIEST)
    for y in range(top, bottom):
        for x in range(width):
            if not todo[y, x]:
                continue
            v, u = min(y // ratio, weight.shape[0] - 1), min(x // ratio, weight.shape[1] - 1)
            n = 0
            for k in range(count):
                if weight[v, u, k] > 1e-4:
                    pick[n] = k
                    n += 1
            if n > HEAVIEST:
                order = np.argsort(-weight[v, u])
                n = HEAVIEST
                for k in range(n):
                    pick[k] = order[k]
            b0, b1, b2 = screen[0, y, x], screen[1, y, x], screen[2, y, x]
            j0, j1, j2 = away[0, y, x], away[1, y, x], away[2, y, x]
            for level in range(LEVELS + 1):
                a = level / LEVELS
                square = a * a
                q = (1 - a) * (1 - a) * doubt[y, x] * doubt[y, x]
                s00, s11, s22 = (
                    variance[0, y, x] + q * b0 * b0,
                    variance[1, y, x] + q * b1 * b1,
                    variance[2, y, x] + q * b2 * b2,
                )
                s01, s02, s12 = q * b0 * b1, q * b0 * b2, q * b1 * b2
                if level == 0:
                    far, whole = _square(j0, j1, j2, s00, s01, s02, s11, s12, s22)
                    result[y, x, 0] = -0.5 * (far + math.log(whole))
                    continue
                nearest = 1e30
                for t in range(n):
                    k = pick[t]
                    far, whole = _square(
                        j0 - a * (mean[k, 0] - b0), j1 - a * (mean[k, 1] - b1), j2 - a * (mean[k, 2] - b2),
                        s00 + square * cov[k, 0, 0], s01 + square * cov[k, 0, 1], s02 + square * cov[k, 0, 2],
                        s11 + square * cov[k, 1, 1], s12 + square * cov[k, 1, 2], s22 + square * cov[k, 2, 2],
                    )  # fmt: skip
                    squares[t], shares[t] = far, weight[v, u, k] / math.sqrt(whole)
                    nearest = min(nearest, far)
                total = 0.0
                for t in range(n):
                    further = squares[t] - nearest
                    if further < NEGLIGIBLE:
                        total += shares[t] * math.exp(-0.5 * further)
                result[y, x, level] = math.log(total) - 0.5 * nearest if total > 0 else -1e30


def likelihood(
    away: NDArray[np.float32], screen: NDArray[np.float32], variance: NDArray[np.float32], doubt: Plane,
    palette: Palette, todo: NDArray[np.bool_], report: Callable[[float], None],
) -> NDArray[np.float32]:  # fmt: skip
    """log p(J | alpha = l / 20), H x W x 21, where there is something `todo`; 0 elsewhere.

    J = I - B (`away`, 3 x H x W) is normal about a (mu_k - B), with the covariance noise + a^2 cov_k +
    (1 - a)^2 doubt^2 B B', summed over the eight colours of the palette that weigh most.
    """
    height = away.shape[1]
    result = np.zeros((*todo.shape, LEVELS + 1), np.float32)
    tops = range(0, height, ROWS)
    done = 0

    def strip(top: int) -> None:
        nonlocal done
        _likely(
            away, screen, variance, doubt, palette.mean, palette.spread, palette.weight, palette.ratio, todo, top,
            min(top + ROWS, height), result,
        )  # fmt: skip
        done += 1
        report(done / len(tops))

    spread(strip, tops)
    return result


@numba.njit(**FAST)
def _weighed(
    logs: NDArray[np.float32], prior: NDArray[np.float32], todo: NDArray[np.bool_], top: int, bottom: int,
    found: NDArray[np.float32],
) -> None:  # fmt: skip
    width, n = logs.shape[1], logs.shape[2]
    value = np.empty(n)
    for y in range(top, bottom):
        for x in range(width):
            if not todo[y, x]:
                continue
            inner = math.log(prior[1, y, x] / (n - 2) + 1e-9)
            best = -1e30
            for level in range(n):
                before = inner
                if level == 0:
                    before = math.log(prior[0, y, x] + 1e-9)
                elif level == n - 1:
                    before = math.log(prior[2, y, x] + 1e-9)
                value[level] = logs[y, x, level] + before
                best = max(best, value[level])
            total = first = second = 0.0
            for level in range(n):
                part = math.exp(value[level] - best)
                value[level] = part
                a = level / (n - 1)
                total += part
                first += part * a
                second += part * a * a
            found[0, y, x] = first / total
            found[1, y, x] = max(second / total - (first / total) ** 2, 0.0)
            found[2, y, x] = value[0] / total
            found[3, y, x] = value[n - 1] / total


def weighed(
    logs: NDArray[np.float32], prior: NDArray[np.float32], todo: NDArray[np.bool_], found: NDArray[np.float32]
) -> None:
    """Mean and variance of alpha, and how likely 0 and 1 are, into `found` (4 x H x W) where there is something todo.

    `prior` 3 x H x W: of 0, of all between, of 1.
    """
    height = logs.shape[0]
    spread(lambda top: _weighed(logs, prior, todo, top, min(top + ROWS, height), found), range(0, height, ROWS))
