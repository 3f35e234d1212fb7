"""What a file with soft edges really is: straight, premultiplied, or matted with a colour; by evidence, not belief.

In windows of 7 x 7 pixels where alpha varies, each colour channel is regressed on alpha: c = b + (f - b) a. Changes of
the foreground itself show by a in c, so pixels count by 1 / a^2, and windows by what they know of the intercept b. The
median of the intercepts is the backing's colour, if there was one.

Three explanations are then compared by their likelihood, pixel by pixel: the colour is the foreground's own (c = f, and
c is even in a window); it was mixed in linear light (f = b + (c - b) / a is even); it was mixed in display-encoded
values. Densities are compared in one unit by the derivative of the sRGB curve.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.engine import Engine, Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.pointmath import encode
from nexal.operations.passes import pass_channels
from nexal.picture import ALPHA_NAME, PLANE_NAME, Plane

Floats = NDArray[np.float64]

SIDE = 7
"""Pixels a side of a window."""
SOFT = (0.03, 0.97)
"""Mean alpha of a window between which it counts."""
SEEN = 0.02
"""Pixels below this alpha say nothing of the foreground and are left out."""
GRAIN = 0.03
"""How far colour is off for other reasons than the foreground's own change, against that: noise and rounding."""
FLOOR = 0.0015
"""Unevenness in display-encoded values that is never looked below: rounding to 8 bit."""
LEAST_VARIANCE = 4e-4
LEAST_PIXELS = 16
LEAST_WINDOWS = 40
TILE, MOST_TILES, MOST_WINDOWS = 64, 192, 40_000
STEP = 2
"""Every second window is looked at, both ways."""
SURE = 0.02
"""Mean log likelihood a pixel by which an explanation has to be better than the next."""
FLAT = 0.012
"""Where encoded colour follows alpha by less than this it was not mixed: it is straight, and even."""
ZERO = 0.012
"""A backing this near to 0 in every channel is black: the colour is premultiplied."""

DOMAINS = ("scene", "display")


@dataclass(frozen=True)
class Regressed:
    """Lines of one domain: weighted median and interquartile range of the intercepts, median size of the slopes.

    `mixed` and `own` are the mean log likelihood a pixel of c = b + (f - b) a, and of c = f.
    """

    backing: Floats
    spread: Floats
    slope: Floats
    mixed: float
    own: float


def _soft_tiles(alpha: Plane) -> list[tuple[int, int]]:
    """Corners of the tiles that hold the most soft pixels, spread over the picture."""
    soft = ((alpha > SOFT[0]) & (alpha < SOFT[1])).astype(np.uint8)
    height, width = (-(-size // TILE) for size in alpha.shape)
    padded = np.zeros((height * TILE, width * TILE), np.uint8)
    padded[: alpha.shape[0], : alpha.shape[1]] = soft
    counts = padded.reshape(height, TILE, width, TILE).sum(axis=(1, 3), dtype=np.int64)
    rows, columns = np.nonzero(counts >= LEAST_PIXELS)
    if len(rows) > MOST_TILES:
        chosen = np.linspace(0, len(rows) - 1, MOST_TILES).astype(int)
        rows, columns = rows[chosen], columns[chosen]
    return [(int(row) * TILE, int(column) * TILE) for row, column in zip(rows, columns, strict=True)]


def _sums(values: Floats) -> Floats:
    return cv2.boxFilter(values, -1, (SIDE, SIDE), normalize=False, borderType=cv2.BORDER_CONSTANT)[::STEP, ::STEP]


def _windows(colours: Sequence[Plane], alpha: Floats, most: int, *, encoded: bool) -> dict[str, Floats]:
    """Sums over the windows of a tile that count; those of colour have a first axis for the channels."""
    seen = (alpha > SEEN).astype(np.float64)
    noise = alpha * alpha + GRAIN * GRAIN
    weight = seen / noise
    sums = {
        "count": _sums(seen),
        "w": _sums(weight),
        "wa": _sums(weight * alpha),
        "waa": _sums(weight * alpha * alpha),
        "log_noise": _sums(seen * np.log(noise)),
    }
    mean = sums["wa"] / np.maximum(sums["w"], 1e-9)
    variance = sums["waa"] / np.maximum(sums["w"], 1e-9) - mean * mean
    enough = (sums["count"] >= LEAST_PIXELS) & (variance > LEAST_VARIANCE)
    chosen = np.flatnonzero(enough & (mean > SOFT[0]) & (mean < SOFT[1]))
    chosen = chosen[:: max(1, len(chosen) // max(1, most))]
    rows: list[dict[str, Floats]] = []
    for plane in colours:
        value = (encode(plane) if encoded else plane).astype(np.float64)
        rows.append(
            {
                "wc": _sums(weight * value),
                "wac": _sums(weight * alpha * value),
                "wcc": _sums(weight * value * value),
                "c": _sums(seen * value),
                "cc": _sums(seen * value * value),
                "log_steep": _sums(seen * np.log(_steepness(plane))),
            }
        )
    found = {name: plane.ravel()[chosen] for name, plane in sums.items()}
    return found | {name: np.stack([row[name].ravel()[chosen] for row in rows]) for name in rows[0]}


def _steepness(values: Plane) -> Floats:
    """Derivative of the sRGB curve at scene-linear values."""
    size = np.abs(values.astype(np.float64))
    return np.where(size <= 0.0031308, 12.92, 1.055 / 2.4 * np.maximum(size, 0.0031308) ** (1 / 2.4 - 1))


def _quantiles(values: Floats, weights: Floats, ranks: Sequence[float]) -> list[float]:
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    places = np.searchsorted(total, np.array(ranks) * total[-1])
    return [float(value) for value in values[order][np.minimum(places, len(order) - 1)]]


def _regressed(
    planes: Sequence[Plane], alpha: Plane, tiles: list[tuple[int, int]], *, encoded: bool
) -> Regressed | None:
    parts = []
    for top, left in tiles:
        # A margin of half a window round the tile.
        cut = np.s_[max(0, top - 3) : top + TILE + 3, max(0, left - 3) : left + TILE + 3]
        most = MOST_WINDOWS // len(tiles)
        parts.append(_windows([plane[cut] for plane in planes], alpha[cut].astype(np.float64), most, encoded=encoded))
    if sum(len(part["w"]) for part in parts) < LEAST_WINDOWS:
        return None
    s = {name: np.concatenate([part[name] for part in parts], axis=-1) for name in parts[0]}
    mean = s["wa"] / s["w"]
    variance = s["waa"] / s["w"] - mean * mean
    slopes = (s["wac"] / s["w"] - mean * s["wc"] / s["w"]) / variance
    intercepts = s["wc"] / s["w"] - slopes * mean
    # Inverse variance of the intercept of a weighted regression.
    known = s["w"] * variance / (variance + mean * mean)
    backing, spread, slope = [], [], []
    for intercept, each in zip(intercepts, slopes, strict=True):
        low, middle, high = _quantiles(intercept, known, (0.25, 0.5, 0.75))
        backing.append(middle)
        spread.append(high - low)
        slope.append(_quantiles(np.abs(each), known, (0.5,))[0])
    b = np.array(backing)[:, None]
    steep = s["log_steep"] / s["count"]
    floor = (FLOOR * (1 if encoded else np.exp(-steep))) ** 2
    line = (s["wac"] - b * s["wa"]) / s["waa"]
    left = s["wcc"] - 2 * b * s["wc"] + b * b * s["w"] - line * (s["wac"] - b * s["wa"])
    uneven = s["cc"] / s["count"] - (s["c"] / s["count"]) ** 2
    unit = steep if encoded else np.zeros_like(steep)
    log_noise = s["log_noise"] / s["count"]
    mixed = -0.5 * np.log(np.maximum(left / s["count"], 0) + floor * np.exp(-log_noise)) - 0.5 * log_noise + unit
    own = -0.5 * np.log(np.maximum(uneven, 0) + floor) + unit
    return Regressed(np.array(backing), np.array(spread), np.array(slope), float(mixed.mean()), float(own.mean()))


def _answer(
    verdict: str, domain: str | None, confidence: float, claims: str, figures: dict[str, Any]
) -> dict[str, Any]:
    return {
        "verdict": verdict,
        "domain": domain,
        "confidence": round(confidence, 3),
        "backing": [0.0, 0.0, 0.0],
        "claims": claims,
        "figures": figures,
    }


def diagnose(engine: Engine, plan: Plan, picture: Feed, alpha: Feed | None = None) -> dict[str, Any]:
    """State of a picture's colour against its alpha, or against an alpha that came apart from it.

    Answers
    - `verdict`: straight, premultiplied, matted, no_alpha, unused_alpha or cannot_tell
    - `domain`: scene or display, the values in which colour and backing were mixed; None for what was not mixed
    - `backing`: its colour, in the values of the domain
    - `confidence`: 0..1
    - `claims`: what is said of the picture
    - `figures`: `tiles` of 64 px looked at; `soft`, the share of soft pixels; for both domains `backing`, `spread` and
      `slope` of each channel; `likelihood` of each explanation; `brighter`, the share of soft pixels whose encoded
      colour exceeds their alpha; `under`, the share of pixels with alpha 0 that have colour, and its mean
    Raises RecipeError where a picture has no colour or the sizes differ.
    """
    description = picture.description
    colours = {name: own for name, own in pass_channels(description).items() if own not in description.data}
    if not colours:
        raise RecipeError("holds no colour", where=picture.node.item, remedy="choose a picture")
    claims = description.alpha.value if description.has_alpha else "none"
    if alpha is None and not description.has_alpha:
        return _answer("no_alpha", None, 1.0, claims, {})
    names = [*colours.values(), *([] if alpha else [ALPHA_NAME])]
    # What stands out of the picture counts only where nothing else is there.
    region = description.display.intersect(description.window)
    region = description.window if region.empty else region
    if region.empty:
        return _answer("cannot_tell", None, 0.0, claims, {})
    read = engine.evaluate(picture, plan, region=region, channels=names, keep_all=True, patient=False).planes
    planes = [np.nan_to_num(read[name], posinf=0, neginf=0) for name in colours.values()]
    if alpha is None:
        cover = np.nan_to_num(read[ALPHA_NAME], posinf=1, neginf=0)
    else:
        if alpha.description.display != description.display:
            raise RecipeError(
                "picture and alpha differ in size", where=alpha.node.item, remedy="choose the alpha of this picture"
            )
        apart = engine.evaluate(alpha, plan, region=region, keep_all=True, patient=False).planes
        cover = np.nan_to_num(apart[PLANE_NAME], posinf=1, neginf=0)
    return _judged(planes, cover, claims)


def _judged(planes: Sequence[Plane], alpha: Plane, claims: str) -> dict[str, Any]:
    soft = (alpha > SOFT[0]) & (alpha < SOFT[1])
    figures: dict[str, Any] = {"soft": float(soft.mean()), "tiles": 0, **_supporting(planes, alpha, soft)}
    if float(np.ptp(alpha)) < 1e-4:
        return _answer("unused_alpha", None, 1.0, claims, figures)
    tiles = _soft_tiles(alpha)
    found = {domain: _regressed(planes, alpha, tiles, encoded=domain == "display") for domain in DOMAINS}
    known = {domain: each for domain, each in found.items() if each is not None}
    if len(known) < len(DOMAINS):
        return _answer("cannot_tell", None, 0.0, claims, figures)
    for domain, each in known.items():
        figures[domain] = {
            "backing": each.backing.tolist(),
            "spread": each.spread.tolist(),
            "slope": each.slope.tolist(),
        }
    figures["tiles"] = len(tiles)
    likely: dict[tuple[str, str | None], float] = {("straight", None): max(each.own for each in known.values())}
    likely |= {("mixed", domain): each.mixed for domain, each in known.items()}
    first, second = sorted(likely, key=lambda key: -likely[key])[:2]
    state, mixed_in = first
    better = likely[first] - likely[second]
    figures["likelihood"] = {key[1] or key[0]: value for key, value in likely.items()}
    if float(known["display"].slope.max()) < FLAT:
        return _answer("straight", None, 0.5, claims, figures)
    apart = max(likely["mixed", each] for each in DOMAINS) - likely["straight", None]
    if abs(apart) < SURE:
        return _answer("cannot_tell", None, 0.0, claims, figures)
    confidence = (1 - float(np.exp(-abs(apart) * 4))) * (0.7 + 0.3 * (1 - float(np.exp(-better * 12))))
    if state == "straight":
        return _answer("straight", None, confidence, claims, figures)
    best = known[str(mixed_in)]
    black = bool(np.all(np.abs(best.backing) <= ZERO + 0.5 * best.spread))
    answer = _answer("premultiplied" if black else "matted", mixed_in, confidence, claims, figures)
    if not black:
        values = best.backing if len(best.backing) == 3 else np.repeat(best.backing, 3)
        answer["backing"] = [round(float(value), 5) for value in values]
    return answer


def _supporting(planes: Sequence[Plane], alpha: Plane, soft: NDArray[np.bool_]) -> dict[str, Any]:
    """Evidence that decides nothing by itself: colour brighter than alpha, and colour where alpha is 0.

    Counted on at most 500,000 pixels, evenly spread.
    """
    stride = max(1, int(np.sqrt(alpha.size / 500_000)))
    planes = [plane[::stride, ::stride] for plane in planes]
    alpha, soft = alpha[::stride, ::stride], soft[::stride, ::stride]
    brightest = np.maximum.reduce(list(planes))
    count = int(np.count_nonzero(soft))
    brighter = float(np.count_nonzero(soft & (encode(brightest) > alpha + 0.01)) / count) if count else 0.0
    clear = alpha == 0
    total = int(np.count_nonzero(clear))
    lit = clear & (brightest > 1e-4)
    share = float(np.count_nonzero(lit) / total) if total else 0.0
    mean = [float(plane[lit].mean(dtype=np.float64)) if share else 0.0 for plane in planes]
    return {"brighter": brighter, "under": {"share": share, "colour": mean}}


def cure_of(answer: Mapping[str, Any], picture: str, alpha: str | None = None) -> dict[str, Any] | None:
    """What puts right a picture that was diagnosed: `text`, and `steps` to take or a way to `read` the source.

    `picture` and `alpha` are addresses. None where nothing has to be done or nothing is known.
    """
    steps: list[dict[str, Any]] = []
    source = picture
    if alpha is not None:
        state = "premultiplied" if answer["verdict"] == "premultiplied" else "straight"
        ports = {"picture": picture, "alpha": alpha}
        steps.append({"name": "joined", "op": "attach_alpha", "in": ports, "set": {"state": state}})
        source = "joined"
    verdict, domain = answer["verdict"], answer["domain"]
    if verdict == "matted" or (verdict == "premultiplied" and domain == "display"):
        settings = {"colour": answer["backing"], "encoding": domain}
        steps.append({"name": "cleared", "op": "clear_backing", "in": {"picture": source}, "set": settings})
        what = "the backing" if verdict == "matted" else "black, mixed in encoded values,"
        return {"text": f"Clear {what} out of the soft edge", "steps": steps, "read": None}
    if steps:
        return {"text": "Join picture and alpha", "steps": steps, "read": None} if verdict != "cannot_tell" else None
    if verdict in ("straight", "premultiplied") and answer["claims"] not in (verdict, "none"):
        return {"text": f"Read it as {verdict}", "steps": [], "read": verdict}
    return None
