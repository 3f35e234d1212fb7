"""What a file with soft edges really is: straight, premultiplied, or matted with a colour; by evidence, not belief.

In windows of 7 x 7 pixels where alpha varies, each colour channel is regressed on alpha: c = b + (f - b) a. Changes of
the foreground itself show by a in c, so pixels count by 1 / a^2, and windows by what they know of the intercept b. The
median of the intercepts is the backing's colour, if there was one.

Three explanations are then compared by their likelihood, pixel by pixel: the colour is the foreground's own (c = f, and
c is even in a window); it was mixed in linear light (f = b + (c - b) / a is even); it was mixed in display-encoded
values. Densities are compared in one unit by the derivative of the sRGB curve.

How sure that is, is asked of the picture itself: random halves of what was looked at are judged each by itself. The
confidence is the share of them that come to the same answer, by the rule of succession.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.engine import Engine, Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded, covering
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
HALVES = 16
LEAST_RUNS = 12
MOST_IN_HALF = 3_000
"""Random halves that are asked again, into how many runs what was looked at is cut for that, windows of a half."""
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


Parts = list[dict[str, Floats]]
"""What was summed up in the windows of each tile."""


def _parts(planes: Sequence[Plane], alpha: Plane, tiles: list[tuple[int, int]], *, encoded: bool) -> Parts:
    parts = []
    for top, left in tiles:
        # A margin of half a window round the tile.
        cut = np.s_[max(0, top - 3) : top + TILE + 3, max(0, left - 3) : left + TILE + 3]
        most = MOST_WINDOWS // len(tiles)
        parts.append(_windows([plane[cut] for plane in planes], alpha[cut].astype(np.float64), most, encoded=encoded))
    return parts


def _halves(parts: Parts) -> Iterator[list[NDArray[np.bool_]]]:
    """For each of some random halves of what was looked at, which windows of each tile belong to it.

    Neighbours go together: whole tiles where there are many, else runs of windows.
    """
    random = np.random.default_rng(1)
    runs = max(1, -(-LEAST_RUNS // max(1, len(parts))))
    counts = [len(part["w"]) for part in parts]
    for _ in range(HALVES):
        chosen = []
        for count in counts:
            taken = random.random(runs) < 0.5
            thinned = np.arange(count) % max(1, sum(counts) // MOST_IN_HALF) == 0
            chosen.append(taken[np.arange(count) * runs // max(1, count)] & thinned)
        yield chosen


def _regressed(parts: Parts, chosen: list[NDArray[np.bool_]] | None, *, encoded: bool) -> Regressed | None:
    if chosen is not None:
        parts = [
            {name: plane[..., own] for name, plane in part.items()} for part, own in zip(parts, chosen, strict=True)
        ]
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
    - `confidence`: 0..1, the share of random halves of the soft edges that come to the same answer
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
    read = engine.evaluate(picture, plan, region=region, channels=names, looked_at=True, patient=False).planes
    planes = [bounded(read[name]) for name in colours.values()]
    if alpha is None:
        cover = covering(read[ALPHA_NAME])
    else:
        if alpha.description.display != description.display:
            raise RecipeError(
                "picture and alpha differ in size", where=alpha.node.item, remedy="choose the alpha of this picture"
            )
        apart = engine.evaluate(alpha, plan, region=region, looked_at=True, patient=False).planes
        cover = covering(apart[PLANE_NAME])
    return _judged(planes, cover, claims)


def _judged(planes: Sequence[Plane], alpha: Plane, claims: str) -> dict[str, Any]:
    soft = (alpha > SOFT[0]) & (alpha < SOFT[1])
    figures: dict[str, Any] = {"soft": float(soft.mean()), "tiles": 0, **_supporting(planes, alpha, soft)}
    if float(np.ptp(alpha)) < 1e-4:
        return _answer("unused_alpha", None, 1.0, claims, figures)
    tiles = _soft_tiles(alpha)
    parts = {domain: _parts(planes, alpha, tiles, encoded=domain == "display") for domain in DOMAINS}
    found = _decided(parts, None)
    if found is None:
        return _answer("cannot_tell", None, 0.0, claims, figures)
    for domain, each in found.known.items():
        figures[domain] = {
            "backing": each.backing.tolist(),
            "spread": each.spread.tolist(),
            "slope": each.slope.tolist(),
        }
    figures["tiles"] = len(tiles)
    figures["likelihood"] = found.likely
    if found.verdict == "cannot_tell":
        return _answer("cannot_tell", None, 0.0, claims, figures)
    again = [_decided(parts, half) for half in _halves(parts["scene"])]
    same = sum(other is not None and (other.verdict, other.domain) == (found.verdict, found.domain) for other in again)
    answer = _answer(found.verdict, found.domain, (same + 0.5) / (len(again) + 1), claims, figures)
    if found.verdict == "matted":
        backing = found.known[str(found.domain)].backing
        values = backing if len(backing) == 3 else np.repeat(backing, 3)
        answer["backing"] = [round(float(value), 5) for value in values]
    return answer


@dataclass(frozen=True)
class _Found:
    """An answer by some windows: what they say, the lines of both domains, the likelihood of each explanation."""

    verdict: str
    domain: str | None
    known: Mapping[str, Regressed]
    likely: Mapping[str, float]


def _decided(parts: Mapping[str, Parts], chosen: list[NDArray[np.bool_]] | None) -> _Found | None:
    """What all windows say, or the chosen ones; None where they are too few."""
    known: dict[str, Regressed] = {}
    for domain in DOMAINS:
        each = _regressed(parts[domain], chosen, encoded=domain == "display")
        if each is None:
            return None
        known[domain] = each
    own = max(each.own for each in known.values())
    likely = {"straight": own} | {domain: each.mixed for domain, each in known.items()}
    if float(known["display"].slope.max()) < FLAT:
        return _Found("straight", None, known, likely)
    domain = max(DOMAINS, key=lambda each: known[each].mixed)
    apart = known[domain].mixed - own
    if abs(apart) < SURE:
        return _Found("cannot_tell", None, known, likely)
    if apart < 0:
        return _Found("straight", None, known, likely)
    best = known[domain]
    black = bool(np.all(np.abs(best.backing) <= ZERO + 0.5 * best.spread))
    return _Found("premultiplied" if black else "matted", domain, known, likely)


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
