"""What one plane holds: range, mean, percentiles, histogram, noise, and how much of it is no number."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.kernels.bounds import bounded
from nexal.kernels.halves import from_halves
from nexal.kernels.pointmath import encode
from nexal.picture import NOTHING_FROM, Plane

BINS = 64
SAMPLES = 400_000
PERCENTILES = (1, 5, 50, 95, 99)
INTEGER_MAX = {"uint8": 255, "uint16": 65535}


def as_float(samples: NDArray[Any]) -> Plane:
    """Stored samples as float32: 8 and 16 bit codes over their maximum, everything else by its value."""
    full = INTEGER_MAX.get(str(samples.dtype))
    if full:
        return samples.astype(np.float32) * np.float32(1 / full)
    if samples.dtype == np.float16:
        return from_halves(samples)
    return samples.astype(np.float32, copy=False)


def extremes(samples: NDArray[Any]) -> tuple[float, float, int]:
    """Smallest and largest finite value, and the number of samples that are not finite."""
    if samples.dtype == np.float16:
        # Half bits, folded so that they sort as integers do: far faster than comparing halves.
        bits = np.ascontiguousarray(samples).view(np.int16)
        ordered = bits ^ ((bits >> 15) & np.int16(0x7FFF))
        low, high = int(ordered.min()), int(ordered.max())
        if high < 0x7C00 and low > ~0x7C00:
            ends = np.array([low, high], np.int16)
            values = (ends ^ ((ends >> 15) & np.int16(0x7FFF))).view(np.float16).astype(float)
            return float(values[0]), float(values[1]), 0
    elif samples.dtype != np.float32:
        scale = INTEGER_MAX.get(str(samples.dtype), 1)
        return float(samples.min()) / scale, float(samples.max()) / scale, 0
    else:
        low_value, high_value = float(samples.min()), float(samples.max())
        if np.isfinite(low_value) and np.isfinite(high_value):
            return low_value, high_value, 0
    finite = np.isfinite(samples)
    bad = int(samples.size - np.count_nonzero(finite))
    if bad == samples.size:
        return 0.0, 0.0, bad
    return (
        float(np.min(samples, where=finite, initial=np.inf)),
        float(np.max(samples, where=finite, initial=-np.inf)),
        bad,
    )


def skyline(values: Plane, low: float, high: float, bins: int = BINS) -> list[int]:
    """Counts of finite values in equal bins from low to high; what lies outside is left out."""
    # In double precision: the span of what single precision can hold is beyond it.
    finite = values[np.isfinite(values)].astype(np.float64)
    return [int(count) for count in np.histogram(finite, bins, (low, high if high > low else low + 1))[0]]


def noise(plane: Plane) -> float:
    """Median absolute deviation of the Laplacian over a crop from the middle."""
    import cv2

    height, width = plane.shape
    top, left = max(0, height // 2 - 256), max(0, width // 2 - 256)
    crop = bounded(plane[top : top + 512, left : left + 512])
    laplacian = cv2.Laplacian(crop.astype(np.float64), cv2.CV_64F)
    return float(np.median(np.abs(laplacian - np.median(laplacian))))


def report(samples: NDArray[Any], *, encoded: bool, empty: bool = False) -> dict[str, Any]:
    """Report of a channel. Range over every sample; the rest over at most 400,000 of them, evenly spread.

    `encoded` asks for the histogram of display-encoded values: for channels of scene-linear colour. Where samples may
    be `empty`, those that stand for nothing are left out, and their share is told.
    """
    bad = extremes(samples)[2]
    if empty and samples.dtype == np.float32:
        samples = np.where(np.abs(samples) < np.float32(NOTHING_FROM), samples, np.float32(np.nan))
    low, high, left_out = extremes(samples)
    stride = max(1, int(np.sqrt(samples.size / SAMPLES)))
    sampled = as_float(np.ascontiguousarray(samples[::stride, ::stride]))
    finite = sampled[np.isfinite(sampled)]
    finite = (finite if finite.size else np.zeros(1, np.float32)).astype(np.float64)
    seen = encode(sampled) if encoded else sampled
    ends = [float(value) for value in (encode(np.array([low, high], np.float32)) if encoded else (low, high))]
    if encoded or (low >= 0 and high <= 1):
        ends = [min(0.0, ends[0]), max(1.0, ends[1])]
    return {
        "min": low,
        "max": high,
        "mean": float(finite.mean()),
        "percentiles": {
            str(rank): float(value) for rank, value in zip(PERCENTILES, np.percentile(finite, PERCENTILES), strict=True)
        },
        "histogram": {"low": ends[0], "high": ends[1], "encoded": encoded, "counts": skyline(seen, ends[0], ends[1])},
        "noise": noise(sampled),
        "non_finite": bad / samples.size,
        "nothing": left_out / samples.size,
    }
