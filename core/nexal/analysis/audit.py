"""Audit: which layers of a render add up to its full picture."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import SCALES
from nexal.engine.plan import Feed
from nexal.errors import NexalError, RecipeError, nearest
from nexal.kernels.bounds import bounded
from nexal.picture import Description, Window, split_channel
from nexal.work import Cost, Work, working

WHOLE = "RGB"
"""What the picture without a layer name is called."""

POSITIONS = 6000
BRIGHTEST, MOST_BRIGHTEST = 40, 2400
"""Sampled besides from each layer, and from all together, so that a small light is not missed."""
FEW = 8
"""Candidates from which on a first look at few samples is worth its while."""
MANY = 40
"""Layers from which on samples are taken from proxies: sums hold there too."""
PROXY = Fraction(1, 4)
SCREENED = 1500
"""Samples by which it is seen which layers may be part of another: no part is brighter than the whole."""
ABOVE = 0.02
"""Part of these samples in which a part may be brighter than the whole all the same."""
KEPT = 0.7
"""Part of the samples that a refit goes by: what no pass has must not bend the coefficients."""
REFITS, THINNED = 3, 4

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


def beside(plan: Plan, feed: Feed) -> list[Feed]:
    """Other sources that may hold passes of a picture, where they came in files of their own: pictures in colour of the
    same size, where it has no layers itself."""
    if len(colour_layers(feed.description)) > 1:
        return []
    found = []
    for name in plan.recipe.sources:
        try:
            other = plan.feed(name)
        except NexalError:
            continue
        same = other.description.display == feed.description.display
        if name != feed.node.item and same and colour_layers(other.description):
            found.append(other)
    return found


def audit(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    full: str | None,
    cancellation: Cancellation | None = None,
    others: Sequence[Feed] = (),
) -> dict[str, Any]:
    """Which colour layers add up to the layer `full`, with which coefficients, and what is left.

    Non-negative least squares on sampled pixels, relative to the full picture's values, refitted without the worst
    part; coefficients within 0.02 of 0 or 1 are taken for them where that explains as much. Layers that are sums of
    others are found first and left out of the set; where single layers do not explain the picture, products of a
    lighting and a colour layer are tried. The layers are those of `feed` and of the `others`, which are named by their
    items. Without `full` it is the brightest layer that others add up to just as they are; where there is none, no set
    is claimed.
    Answers `full`; `parts` (`layer`, `coefficient`, and `times` for a product), empty where no set is claimed;
    `claimed`; `residual` of the whole picture (`mean`, `p99`, `max` of the absolute difference over all channels,
    `psnr` for a peak of 1); `alpha`, the address of the full picture's alpha; `sums`, the layers that are sums of
    others with what they consist of; `explained`, the part of the samples within a few roundings; `addresses` of all
    layers by their names;
    `place` (x, y, width, height) of what no pass holds, None where there is none.
    Raises RecipeError where there is no such layer. `cancellation` is told how far it is.
    References: Lawson, Hanson, *Solving Least Squares Problems*, 1974 (non-negative least squares).
    """
    whole = cancellation or Cancellation()
    with working(_Within(whole)):
        return _Audit(engine, plan, feed, full, whole, others).answer()


def layers_of(feeds: Iterable[Feed]) -> int:
    """How many colour layers pictures have together; an audit of more than `MANY` takes seconds."""
    return sum(len(colour_layers(feed.description)) for feed in feeds)


class _Within(Work):
    """A piece of a longer work: given up and bounded with it, without telling how far the whole is."""

    def __init__(self, whole: Work) -> None:
        self.whole = whole

    def check(self) -> None:
        self.whole.check()

    def claim(self, cost: Cost) -> None:
        self.whole.claim(cost)


@dataclass(frozen=True)
class _Layer:
    """A layer of a picture that may be a pass."""

    feed: Feed
    layer: str

    @property
    def channels(self) -> list[str]:
        prefix = "" if self.layer == WHOLE else f"{self.layer}."
        return [f"{prefix}{last}" for last in WHOLE]

    @property
    def address(self) -> str:
        item = self.feed.node.item
        return item if self.layer == WHOLE else f"{item}.{self.layer}"


class _Audit:
    def __init__(
        self,
        engine: Engine,
        plan: Plan,
        feed: Feed,
        full: str | None,
        work: Work,
        others: Sequence[Feed],
    ) -> None:
        self.engine, self.plan, self.work = engine, plan, work
        self.known = {layer: _Layer(feed, layer) for layer in colour_layers(feed.description)}
        for other in others:
            for layer in colour_layers(other.description):
                found = _Layer(other, layer)
                self.known[found.address] = found
        if full is not None and full not in self.known:
            raise RecipeError(
                f"there is no colour layer '{full}'",
                where="--full",
                remedy=nearest(full, self.known) or "name a layer",
            )
        self.window = feed.description.window
        self.scale = PROXY if len(self.known) > MANY else Fraction(1)
        self.samples = self._sampled()
        step = max(1, len(next(iter(self.samples.values()))) // SCREENED)
        self.screened = {layer: own[::step] for layer, own in self.samples.items() if own.any()}
        whole = self._brightest() if full is None else full
        self.nothing = whole is None
        self.full: str = whole or next(iter(self.known))
        self.layers = [layer for layer in self.known if layer != self.full]

    def _planes(self, layer: str, scale: Fraction = Fraction(1)) -> NDArray[np.float32]:
        """R, G and B of a layer over the data window, 3 x H x W, within the bounds of light."""
        known = self.known[layer]
        picture = self.engine.evaluate(
            known.feed,
            self.plan,
            scale=scale,
            region=self.window.scaled(scale),
            channels=known.channels,
            patient=False,
        )
        return bounded(np.stack([picture.planes[name] for name in known.channels]))

    def _sampled(self) -> dict[str, Samples]:
        """The same pixels of all layers: some by chance, and the brightest of each."""
        window = self.window.scaled(self.scale)
        random = np.random.default_rng(1)
        chosen = [random.choice(window.area, min(window.area, POSITIONS), replace=False)]
        count = min(window.area, max(1, min(BRIGHTEST, MOST_BRIGHTEST // len(self.known))))
        small = max(self.scale / 2, SCALES[-1]) if self.scale != 1 else self.scale
        for index, layer in enumerate(self.known):
            self.work.report(0.2 * index / len(self.known))
            chosen.append(self._bright(layer, count, small))
        flat = np.unique(np.concatenate(chosen))
        rows, columns = np.divmod(flat, window.width)
        found = {}
        for index, layer in enumerate(self.known):
            self.work.report(0.2 + 0.3 * index / len(self.known))
            found[layer] = self._planes(layer, self.scale)[:, rows, columns].ravel().astype(np.float64)
        return found

    def _bright(self, layer: str, count: int, scale: Fraction) -> NDArray[np.int64]:
        """Places of a layer's brightest pixels in the scale of the samples, found at one that may be smaller."""
        light = self._planes(layer, scale).sum(axis=0)
        count = min(count, light.size)
        flat = np.argpartition(light.ravel(), light.size - count)[light.size - count :]
        window, given = self.window.scaled(self.scale), self.window.scaled(scale)
        rows, columns = np.divmod(flat, given.width)
        step = int(self.scale / scale)
        rows = np.clip((rows + given.y) * step - window.y, 0, window.height - 1)
        columns = np.clip((columns + given.x) * step - window.x, 0, window.width - 1)
        places: NDArray[np.int64] = rows * window.width + columns
        return places

    def _brightest(self) -> str | None:
        """The brightest layer that others add up to just as they are."""
        bright = sorted(self.known, key=lambda name: -float(np.abs(self.samples[name]).sum()))
        for layer in bright[:3]:
            if layer not in self.screened:
                break
            terms, shares, explained = self._fit(layer, [Term(other) for other in self._within(layer, self.known)])
            if len(terms) > 1 and explained >= CLAIMED and np.all(shares == 1):
                return layer
        return None

    def _within(self, layer: str, candidates: Iterable[str]) -> list[str]:
        """The layers that may be part of another: nowhere brighter than it, but for a few pixels."""
        names = list(self.screened)
        few = np.stack([self.screened[name] for name in names])
        above = np.mean(few > self.screened[layer] * (1 + FITS) + 1e-6, axis=1)
        fitting = dict(zip(names, above <= ABOVE, strict=True))
        return [other for other in candidates if other != layer and fitting.get(other)]

    def answer(self) -> dict[str, Any]:
        self.work.report(0.5)
        sums = self._sums()
        self.work.report(0.6)
        single = [layer for layer in self.layers if layer not in sums and self.samples[layer].any()]
        terms, coefficients, explained = self._fit(self.full, [Term(layer) for layer in single])
        if explained < EXPLAINED:
            if self.scale != 1:
                # A mean of products is no product of means.
                self.scale = Fraction(1)
                self.samples = self._sampled()
            with_products = self._fit(self.full, [*(Term(layer) for layer in single), *self._products(single)])
            if with_products[2] > explained + 0.01:
                terms, coefficients, explained = with_products
        claimed = explained >= CLAIMED and bool(terms) and not self.nothing
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
            "addresses": {name: known.address for name, known in self.known.items()},
        }

    def _alpha(self) -> str | None:
        """The alpha that belongs to the full picture, of its own layer, else of the picture itself; where it has none,
        that of the first of the others that has one."""
        own = self.known[self.full]
        for known in (own, *self.known.values()):
            layer = "" if known.layer == WHOLE else f"{known.layer}."
            for name in (f"{layer}A", "A"):
                if name in known.feed.description.channels:
                    return f"{known.feed.node.item}.{name}"
        return None

    @staticmethod
    def _column(samples: Mapping[str, Samples], term: Term) -> Samples:
        own = samples[term.layer]
        return own * samples[term.times] if term.times else own

    def _fit(
        self, target: str, terms: Sequence[Term], samples: Mapping[str, Samples] | None = None
    ) -> tuple[list[Term], NDArray[np.float64], float]:
        """The terms that are needed, their coefficients, and the part of the samples that they explain."""
        samples = samples or self.samples
        from scipy.optimize import nnls

        if not terms:
            return [], np.zeros(0), 0.0
        goal = samples[target]
        scale = np.abs(goal) + 0.01 * max(float(np.percentile(np.abs(goal), 99)), 1e-6)
        matrix = np.stack([self._column(samples, term) for term in terms], axis=1) / scale[:, None]
        wanted = goal / scale
        lit = wanted != 0
        lit |= matrix.any(axis=1)
        matrix, wanted = matrix[lit], wanted[lit]
        if not len(wanted):
            return [], np.zeros(0), 0.0
        kept = np.ones(len(wanted), bool)
        for turn in range(REFITS):
            rows = np.flatnonzero(kept)
            if turn < REFITS - 1 and len(rows) > THINNED * 8 * len(terms):
                # The first fits only say which samples are off.
                rows = rows[::THINNED]
            # The same least squares in as many rows as there are terms.
            q, r = np.linalg.qr(matrix[rows])
            coefficients, _norm = nnls(r, q.T @ wanted[rows], maxiter=50 * len(terms))
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
            self.work.check()
            own = self.samples[layer]
            if not own.any():
                continue
            if np.allclose(own, self.samples[self.full], rtol=2e-3, atol=1e-5):
                found[layer] = [self.full]
                continue
            others = [Term(other) for other in self._within(layer, self.layers) if other not in found]
            if len(others) > FEW and self._fit(layer, others, self.screened)[2] < CLAIMED:
                continue
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
        for index, (term, coefficient) in enumerate(zip(terms, coefficients, strict=True)):
            self.work.report(0.7 + 0.3 * index / len(terms))
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


def steps_of(answer: dict[str, Any]) -> list[dict[str, Any]]:
    """An audit's set as steps: the sum, closed with the full picture's alpha where it has one, and the residual."""
    addresses = answer["addresses"]
    passes: list[dict[str, Any]] = [
        {"stops": math.log2(part["coefficient"])} if part["coefficient"] != 1 else {} for part in answer["parts"]
    ]
    for settings, part in zip(passes, answer["parts"], strict=True):
        if "times" in part:
            settings["times"] = addresses[part["times"]]
    inputs: dict[str, Any] = {"passes": [addresses[part["layer"]] for part in answer["parts"]]}
    if answer["alpha"]:
        inputs["alpha_from"] = answer["alpha"]
    return [
        {"name": "rebuilt", "op": "sum_passes", "in": inputs, "set": {"passes": passes} if any(passes) else {}},
        {"name": "left", "op": "residual", "in": {"full": addresses[answer["full"]], "rebuilt": "rebuilt"}},
    ]
