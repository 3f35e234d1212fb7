"""Audit: which layers of a render add up to its full picture."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError, nearest
from nexal.picture import Description, Window, split_channel

WHOLE = "RGB"
"""What the picture without a layer name is called."""

POSITIONS = 6000
BRIGHTEST = 40
"""Sampled besides from each layer, so that a small light is not missed."""
KEPT = 0.7
"""Part of the samples that a refit goes by: what no pass has must not bend the coefficients."""
REFITS = 3

NEAR = 0.02
"""A coefficient that close to 0 or 1 is taken for it."""
FITS = 4e-3
"""Relative error up to which a sample counts as explained: a few roundings of half floats."""
CLAIMED = 0.6
"""Part of the samples that must be explained for a set to be claimed."""
EXPLAINED = 0.995
"""Below this, what no pass holds is told with its place."""
SUM_FITS = 0.99

_COLOUR_WORDS = re.compile(r"colou?r|albedo|filter|tint|texture")

Samples = NDArray[np.float64]


@dataclass(frozen=True)
class Term:
    """A layer in the sum, perhaps times another: lighting x colour."""

    layer: str
    times: str | None = None


def colour_layers(description: Description) -> list[str]:
    """Layers whose channels R, G and B hold light or colour; the picture itself is `RGB`."""
    found: dict[str, set[str]] = {}
    for name in description.colour:
        layer, last = split_channel(name)
        found.setdefault(layer, set()).add(last)
    return [layer or WHOLE for layer, lasts in found.items() if {"R", "G", "B"} <= lasts]


def audit(
    engine: Engine, plan: Plan, feed: Feed, full: str, cancellation: Cancellation | None = None
) -> dict[str, Any]:
    """Which colour layers add up to the layer `full`, with which coefficients, and what is left.

    Non-negative least squares on sampled pixels, relative to the full picture's values, refitted without the worst
    part; coefficients within 0.02 of 0 or 1 are taken for them where that explains as much. Layers that are sums of
    others are found first and left out of the set; where single layers do not explain the picture, products of a
    lighting and a colour layer are tried.
    Answers `full`; `parts` (`layer`, `coefficient`, and `times` for a product), empty where no set is claimed;
    `claimed`; `residual` of the whole picture (`mean`, `p99`, `max` of the absolute difference over all channels,
    `psnr` for a peak of 1); `alpha`, the full picture's alpha channel; `sums`, the layers that are sums of others with
    what they consist of; `explained`, the part of the samples within a few roundings;
    `place` (x, y, width, height) of what no pass holds, None where there is none.
    Raises RecipeError where there is no such layer.
    References: Lawson, Hanson, *Solving Least Squares Problems*, 1974 (non-negative least squares).
    """
    return _Audit(engine, plan, feed, full, cancellation).answer()


class _Audit:
    def __init__(self, engine: Engine, plan: Plan, feed: Feed, full: str, cancellation: Cancellation | None) -> None:
        self.engine, self.plan, self.feed, self.cancellation = engine, plan, feed, cancellation
        layers = colour_layers(feed.description)
        if full not in layers:
            raise RecipeError(
                f"there is no colour layer '{full}'", where="--full", remedy=nearest(full, layers) or "name a layer"
            )
        self.full = full
        self.window = feed.description.window
        self.layers = [layer for layer in layers if layer != full]
        self.rows, self.columns = self._positions()
        self.samples = {layer: self._sampled(layer) for layer in (full, *self.layers)}

    def _planes(self, layer: str) -> NDArray[np.float32]:
        """R, G and B of a layer over the data window, 3 x H x W; what is not finite counts as 0."""
        prefix = "" if layer == WHOLE else f"{layer}."
        names = [f"{prefix}{last}" for last in WHOLE]
        picture = self.engine.evaluate(
            self.feed, self.plan, channels=names, patient=False, cancellation=self.cancellation
        )
        return np.nan_to_num(np.stack([picture.planes[name] for name in names]), posinf=0, neginf=0)

    def _positions(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        random = np.random.default_rng(1)
        area = self.window.width * self.window.height
        chosen = [random.choice(area, min(area, POSITIONS), replace=False)]
        for layer in (self.full, *self.layers):
            light = self._planes(layer).sum(axis=0).ravel()
            count = min(BRIGHTEST, light.size)
            chosen.append(np.argpartition(light, light.size - count)[light.size - count :])
        flat = np.unique(np.concatenate(chosen))
        return np.divmod(flat, self.window.width)

    def _sampled(self, layer: str) -> Samples:
        return self._planes(layer)[:, self.rows, self.columns].ravel().astype(np.float64)

    def answer(self) -> dict[str, Any]:
        sums = self._sums()
        single = [layer for layer in self.layers if layer not in sums and self.samples[layer].any()]
        terms, coefficients, explained = self._fit(self.full, [Term(layer) for layer in single])
        if explained < EXPLAINED:
            with_products = self._fit(self.full, [*(Term(layer) for layer in single), *self._products(single)])
            if with_products[2] > explained + 0.01:
                terms, coefficients, explained = with_products
        claimed = explained >= CLAIMED and bool(terms)
        if not claimed:
            terms, coefficients = [], np.zeros(0)
        residual, place = self._residual(terms, coefficients, explained)
        parts = [
            {"layer": term.layer, "coefficient": float(c)} | ({"times": term.times} if term.times else {})
            for term, c in zip(terms, coefficients, strict=True)
        ]
        return {
            "full": self.full,
            "parts": parts,
            "claimed": claimed,
            "residual": residual,
            "explained": explained,
            "place": place if claimed else None,
            "alpha": self._alpha(),
            "sums": [{"layer": layer, "of": of} for layer, of in sums.items()],
        }

    def _alpha(self) -> str | None:
        """The alpha that belongs to the full picture: of its own layer, else of the picture itself."""
        layer = "" if self.full == WHOLE else f"{self.full}."
        return next((name for name in (f"{layer}A", "A") if name in self.feed.description.channels), None)

    def _column(self, term: Term) -> Samples:
        own = self.samples[term.layer]
        return own * self.samples[term.times] if term.times else own

    def _fit(self, target: str, terms: Sequence[Term]) -> tuple[list[Term], NDArray[np.float64], float]:
        """The terms that are needed, their coefficients, and the part of the samples that they explain."""
        from scipy.optimize import nnls

        if not terms:
            return [], np.zeros(0), 0.0
        goal = self.samples[target]
        scale = np.abs(goal) + 0.01 * max(float(np.percentile(np.abs(goal), 99)), 1e-6)
        matrix = np.stack([self._column(term) for term in terms], axis=1) / scale[:, None]
        wanted = goal / scale
        lit = wanted != 0
        lit |= matrix.any(axis=1)
        matrix, wanted = matrix[lit], wanted[lit]
        if not len(wanted):
            return [], np.zeros(0), 0.0
        kept = np.ones(len(wanted), bool)
        for _ in range(REFITS):
            coefficients, _norm = nnls(matrix[kept], wanted[kept], maxiter=50 * len(terms))
            error = np.abs(matrix @ coefficients - wanted)
            kept = error <= np.quantile(error, KEPT)
        snapped = np.where(coefficients < NEAR, 0, np.where(np.abs(coefficients - 1) < NEAR, 1, coefficients))
        before, after = (float(np.mean(np.abs(matrix @ each - wanted) < FITS)) for each in (coefficients, snapped))
        if after >= before - 0.01:
            coefficients, before = snapped, after
        used = [int(i) for i in np.flatnonzero(coefficients > 0)]
        return [terms[i] for i in used], coefficients[used], before

    def _sums(self) -> dict[str, list[str]]:
        """Layers that are plain sums of at least two others, or copies of one other or of the full picture."""
        found: dict[str, list[str]] = {}
        for layer in sorted(self.layers, key=lambda name: -float(np.abs(self.samples[name]).sum())):
            own = self.samples[layer]
            if not own.any():
                continue
            if np.allclose(own, self.samples[self.full], rtol=2e-3, atol=1e-5):
                found[layer] = [self.full]
                continue
            others = [Term(other) for other in self.layers if other != layer and other not in found]
            terms, coefficients, explained = self._fit(layer, others)
            if explained >= SUM_FITS and len(terms) > 0 and np.all(coefficients == 1):
                found[layer] = [term.layer for term in terms]
        return found

    def _products(self, layers: Sequence[str]) -> list[Term]:
        """A lighting times a colour layer: the colour one is called so, or stays within 0..1.2."""
        named = [layer for layer in layers if _COLOUR_WORDS.search(layer.lower())]
        dim = [layer for layer in layers if float(self.samples[layer].max(initial=0)) <= 1.2]
        colours = named or dim
        pairs = [Term(light, colour) for colour, light in itertools.product(colours, layers) if light not in colours]
        return pairs[:400]

    def _residual(
        self, terms: Sequence[Term], coefficients: NDArray[np.float64], explained: float
    ) -> tuple[dict[str, Any], list[int] | None]:
        full = self._planes(self.full).astype(np.float64)
        gap = full.copy()
        for term, coefficient in zip(terms, coefficients, strict=True):
            light = self._planes(term.layer).astype(np.float64)
            if term.times:
                light *= self._planes(term.times)
            gap -= coefficient * light
        gap = np.abs(gap)
        square = float(np.mean(gap**2))
        figures = {
            "mean": float(gap.mean()),
            "p99": float(np.percentile(gap, 99)),
            "max": float(gap.max(initial=0)),
            "psnr": None if square == 0 else -10 * math.log10(square),
        }
        scale = np.abs(full) + 0.01 * max(float(np.percentile(np.abs(full), 99)), 1e-6)
        odd: NDArray[np.bool_] = np.max(gap - 4 * FITS * scale, axis=0) > 0
        if explained >= EXPLAINED and odd.mean() < 1e-4:
            return figures, None
        rows, columns = np.flatnonzero(odd.any(axis=1)), np.flatnonzero(odd.any(axis=0))
        if not rows.size:
            return figures, None
        place = Window(int(columns[0]), int(rows[0]), int(np.ptp(columns)) + 1, int(np.ptp(rows)) + 1)
        return figures, place.shift(self.window.x, self.window.y).as_list()


def steps_of(answer: dict[str, Any], picture: str) -> list[dict[str, Any]]:
    """An audit's set as steps: the sum, closed with the full picture's alpha where it has one, and the residual."""

    def address(layer: str) -> str:
        return picture if layer == WHOLE else f"{picture}.{layer}"

    passes: list[dict[str, Any]] = [
        {"stops": math.log2(part["coefficient"])} if part["coefficient"] != 1 else {} for part in answer["parts"]
    ]
    for settings, part in zip(passes, answer["parts"], strict=True):
        if "times" in part:
            settings["times"] = address(part["times"])
    inputs: dict[str, Any] = {"passes": [address(part["layer"]) for part in answer["parts"]]}
    if answer["alpha"]:
        inputs["alpha_from"] = f"{picture}.{answer['alpha']}"
    return [
        {"name": "rebuilt", "op": "sum_passes", "in": inputs, "set": {"passes": passes} if any(passes) else {}},
        {"name": "left", "op": "residual", "in": {"full": address(answer["full"]), "rebuilt": "rebuilt"}},
    ]
