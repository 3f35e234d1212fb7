"""Integrals of the GGX lobe over all directions of the light, tabulated once.

Reference: B. Karis, SIGGRAPH course *Physically Based Shading in Theory and Practice*, 2013 (the sum split in two);
here with the first moments too, so that surroundings that rise evenly from below to above are exact.
"""

from __future__ import annotations

import math
from functools import cache

import numba
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

LEAST_ROUGHNESS = 0.03
TABLE = 48
"""Entries of the tables along each axis."""
TABLE_SAMPLES = 2048


@numba.njit(cache=True, nogil=True)
def _visibility(nv: float, nl: float, a2: float) -> float:
    """Smith's height-correlated masking and shadowing over 4 nl nv."""
    return 0.5 / (nl * math.sqrt(nv * nv * (1 - a2) + a2) + nv * math.sqrt(nl * nl * (1 - a2) + a2))


@numba.njit(cache=True, nogil=True)
def schlick(cosine: float) -> float:
    """(1 - cosine)^5, the cosine held in 0..1: how far reflection rises towards grazing angles.

    Reference: C. Schlick, *An Inexpensive BRDF Model for Physically-based Rendering*, Computer Graphics Forum 1994.
    """
    x = 1.0 - min(1.0, max(0.0, cosine))
    return x * x * x * x * x


@numba.njit(cache=True, nogil=True)
def _radical_inverse(index: int) -> float:
    result, part = 0.0, 0.5
    while index:
        if index & 1:
            result += part
        index >>= 1
        part *= 0.5
    return result


@numba.njit(cache=True, nogil=True)
def _integrate(side: int, samples: int, lobes: Floats, diffuse: Floats) -> None:
    for i in range(side):
        nv = (i + 0.5) / side
        vt = math.sqrt(1 - nv * nv)
        for j in range(side):
            alpha = max(LEAST_ROUGHNESS, (j + 0.5) / side) ** 2
            for s in range(samples):
                turn, spread = 2 * math.pi * (s + 0.5) / samples, _radical_inverse(s)
                nh = math.sqrt((1 - spread) / (1 + (alpha * alpha - 1) * spread))
                ht = math.sqrt(max(0.0, 1 - nh * nh)) * math.cos(turn)
                vh = nv * nh + vt * ht
                nl, lt = 2 * vh * nh - nv, 2 * vh * ht - vt
                if nl <= 0 or vh <= 0:
                    continue
                weight = 4 * _visibility(nv, nl, alpha * alpha) * nl * vh / nh / samples
                grazing = weight * schlick(vh)
                lobes[i, j, 0] += weight
                lobes[i, j, 1] += grazing
                lobes[i, j, 2] += weight * nl
                lobes[i, j, 3] += grazing * nl
                lobes[i, j, 4] += weight * lt / vt
                lobes[i, j, 5] += grazing * lt / vt
        for s in range(samples):
            turn, spread = 2 * math.pi * (s + 0.5) / samples, _radical_inverse(s)
            nl, sine = math.sqrt(1 - spread), math.sqrt(spread)
            lt = sine * math.cos(turn)
            hn, ht, hb = nl + nv, lt + vt, sine * math.sin(turn)
            vh = (nv * hn + vt * ht) / math.sqrt(hn * hn + ht * ht + hb * hb)
            grazing = schlick(vh) / samples
            diffuse[i, 0] += grazing
            diffuse[i, 1] += grazing * nl
            diffuse[i, 2] += grazing * lt / vt


@cache
def lobe_tables() -> tuple[Floats, Floats]:
    """Integrals over all directions l of the light, by n.v and by roughness.

    lobes: TABLE x TABLE x 6, of D V nl times 1, S, nl, nl S, lt, lt S, with S = (1 - v.h)**5 and lt the part of l
    along v - n (n.v), over the square of that vector's length. diffuse: TABLE x 3, of nl / pi times S, S nl, S lt.
    """
    lobes, diffuse = np.zeros((TABLE, TABLE, 6)), np.zeros((TABLE, 3))
    _integrate(TABLE, TABLE_SAMPLES, lobes, diffuse)
    return lobes, diffuse


@numba.njit(cache=True, nogil=True)
def looked_up(table: Floats, nv: float, roughness: float, result: Floats) -> None:
    """The K values of a square table (n.v, roughness, K) at n.v and roughness in 0..1, bilinear, into `result`.

    Entries stand at the middles of their cells; beyond the outermost middles the outermost values hold.
    """
    side = table.shape[0]
    y = min(max(nv * side - 0.5, 0.0), side - 1.001)
    x = min(max(roughness * side - 0.5, 0.0), side - 1.001)
    i, j = int(y), int(x)
    fy, fx = y - i, x - j
    for k in range(table.shape[2]):
        upper = table[i, j, k] * (1 - fx) + table[i, j + 1, k] * fx
        lower = table[i + 1, j, k] * (1 - fx) + table[i + 1, j + 1, k] * fx
        result[k] = upper * (1 - fy) + lower * fy
