"""Kernels that move, resize and carry planes, against plain sums in double precision."""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st
from numpy.typing import NDArray
from patience import trials

from nexal.kernels.nearest import carried
from nexal.kernels.resizing import Taps, resized, taps
from nexal.kernels.threads import COPIED_TOGETHER, bands, copy
from nexal.kernels.warping import FILTER_SUPPORT, LEAST_STRETCH, MOST_STRETCH, RUN, resample, resample_projective
from nexal.picture import Plane

HEIGHT, WIDTH = 13, 17
SHAPE = (9, 15)


def plane(odd: bool = False) -> Plane:
    made = np.random.default_rng(4).random((HEIGHT, WIDTH), np.float32)
    if odd:
        made[5, 6], made[2, 12] = np.nan, np.inf
    return made


def weight(kind: str, distance: float) -> float:
    """Tent, or cubic convolution with a = -1/2 (Keys 1981)."""
    d = abs(distance)
    if kind == "linear":
        return max(0.0, 1 - d)
    if d < 1:
        return 1.5 * d**3 - 2.5 * d**2 + 1
    return -0.5 * d**3 + 2.5 * d**2 - 4 * d + 2 if d < 2 else 0.0


def sampled(source: Plane, x: float, y: float, kind: str, stretch: float, overshoot: bool = True) -> float:
    """All samples of a plane, each with the weight of its distance; what weighs nothing is not looked at. Held by the
    least and the largest of them where it may not overshoot."""
    height, width = source.shape
    if kind == "nearest":
        column, row = math.floor(x), math.floor(y)
        return float(source[row, column]) if 0 <= row < height and 0 <= column < width else 0.0
    reach = FILTER_SUPPORT[kind] * stretch
    weights = []
    for at in (x, y):
        places = range(math.ceil(at - 0.5 - reach), math.floor(at - 0.5 + reach) + 1)
        found = {place: weight(kind, (place + 0.5 - at) / stretch) for place in places}
        weights.append({place: share / sum(found.values()) for place, share in found.items()})
    total, low, high = 0.0, math.inf, -math.inf
    for row, down in weights[1].items():
        for column, across in weights[0].items():
            if down and across:
                inside = 0 <= row < height and 0 <= column < width
                value = float(source[row, column]) if inside else 0.0
                total += down * across * value
                low, high = min(low, value), max(high, value)
    return total if overshoot else min(max(total, low), high)


def widened(ratio: float) -> float:
    return ratio if ratio >= LEAST_STRETCH else 1.0


NUMBER = st.floats(-3, 3, width=32)
KINDS = st.sampled_from(["linear", "cubic"])


class Moved(unittest.TestCase):
    def assert_near(self, got: Plane, wanted: NDArray[np.float64]) -> None:
        with np.errstate(invalid="ignore"):
            np.testing.assert_allclose(got, wanted, rtol=2e-6, atol=2e-6)

    @trials(60)
    @given(NUMBER, NUMBER, NUMBER, NUMBER, st.floats(-9, 20), st.floats(-9, 20), KINDS, st.booleans())
    # Shifted, by whole rows too; flipped; a quarter of a turn; turned by what a cosine makes of it; far outside.
    @example(1, 0, 0, 1, 3.3, 2.7, "cubic", True)
    @example(1, 0, 0, 1, 3.5, 2.7, "cubic", True)
    @example(1, 0, 0, 1, 3.3, 2.5, "linear", True)
    @example(-1, 0, 0, 0.5, 16.2, 0.4, "cubic", True)
    @example(0, 1.7, -1.7, 0, 2.2, 11.3, "cubic", True)
    @example(math.cos(0.3), -math.sin(0.3), math.sin(0.3), math.cos(0.3), 4.0, 1.0, "cubic", True)
    @example(6, 0, 0, 1, -4.0, 0.8, "cubic", False)
    @example(1, 0, 0, 1, -400.0, 3.3, "cubic", False)
    def test_each_sample_weighs_by_its_distance(
        self, xx: float, xy: float, yx: float, yy: float, x: float, y: float, kind: str, odd: bool
    ) -> None:
        source = plane(odd)
        stretch = widened(math.sqrt(abs(xx * yy - xy * yx)))
        wanted = [
            [sampled(source, x + xx * c + xy * r, y + yx * c + yy * r, kind, stretch) for c in range(SHAPE[1])]
            for r in range(SHAPE[0])
        ]
        got = resample(source, SHAPE, (x, y), (xx, xy, yx, yy), kind)
        # Where the rounding of a position decides whether a sample weighs nothing or next to nothing, one that is no
        # number may be seen or not.
        r, c = np.mgrid[: SHAPE[0], : SHAPE[1]]
        places = np.stack([x + xx * c + xy * r, y + yx * c + yy * r]) - 0.5
        on = (np.abs(places - np.round(places)) < 1e-9).any(axis=0) & (places != np.round(places)).any(axis=0)
        told = ~on if odd else np.ones(SHAPE, np.bool_)
        self.assert_near(got[told], np.array(wanted)[told])

    @trials(60)
    @given(NUMBER, NUMBER, NUMBER, NUMBER, st.floats(-9, 20), st.floats(-9, 20), st.booleans())
    @example(1, 0, 0, 1, 3.3, 2.7, True)
    @example(1, 0, 0, 1, -1.5, 2.5, True)
    @example(0, 0.4, -0.4, 0, 2.2, 11.3, True)
    @example(0.37, 0, 0, 0.41, -2.2, -1.3, True)
    @example(math.cos(0.3), -math.sin(0.3), math.sin(0.3), math.cos(0.3), 4.0, 1.0, True)
    def test_without_overshoot_it_is_held_by_what_it_is_made_of(
        self, xx: float, xy: float, yx: float, yy: float, x: float, y: float, hard: bool
    ) -> None:
        source = plane()
        if hard:
            source = np.where(source > 0.5, np.float32(40), np.float32(-1 / 3))
        stretch = widened(math.sqrt(abs(xx * yy - xy * yx)))
        wanted = np.array(
            [
                [sampled(source, x + xx * c + xy * r, y + yx * c + yy * r, "cubic", stretch, False) for c in range(15)]
                for r in range(9)
            ]
        )
        got = resample(source, SHAPE, (x, y), (xx, xy, yx, yy), "cubic", overshoot=False)
        lowest, highest = min(source.min(), 0), max(source.max(), 0)
        self.assertTrue(((got >= lowest) & (got <= highest)).all())
        r, c = np.mgrid[: SHAPE[0], : SHAPE[1]]
        places = np.stack([x + xx * c + xy * r, y + yx * c + yy * r]) - 0.5
        told = ~((np.abs(places - np.round(places)) < 1e-9) & (places != np.round(places))).any(axis=0)
        np.testing.assert_allclose(got[told], wanted[told], rtol=2e-6, atol=2e-4 if hard else 2e-6)

    def test_held_or_not_a_long_row_is_as_each_sample_alone_and_no_number_stays_none(self) -> None:
        source = np.where(np.random.default_rng(3).random((40, 2 * RUN)) > 0.6, np.float32(1), np.float32(0))
        source[20, 300] = np.nan
        turn = math.radians(7.3)
        c, s = math.cos(turn), math.sin(turn)
        for matrix in ((c, s, -s, c), (1.0, 0.0, 0.0, 1.0), (0.71, 0.0, 0.0, 0.63)):
            free, held = (resample(source, source.shape, (-8.3, 5.7), matrix, "cubic", each) for each in (True, False))
            np.testing.assert_array_equal(np.isnan(free), np.isnan(held))
            known = ~np.isnan(held)
            self.assertTrue(((held[known] >= 0) & (held[known] <= 1)).all())
            self.assertLess(free[known].min(), -0.05)
            # Of what is 0 or 1, all that is between is left as it was.
            inside = known & (free >= 0) & (free <= 1)
            np.testing.assert_array_equal(held[inside], free[inside])

    def test_rows_longer_than_a_run_go_on_as_they_began(self) -> None:
        source = np.random.default_rng(7).random((60, 3 * RUN), np.float32)
        source[31, 400] = np.nan
        turn = math.radians(2)
        c, s = math.cos(turn), math.sin(turn)
        turned = np.array([[c, s, -9.2], [-s, c, 14.3], [0, 0, 1]])
        still = np.array([[1, 0, 2.5], [0, 1, 1.25], [0, 0, 1]])
        leaning = turned + [[0, 0, 0], [0, 0, 0], [1e-7, 2e-7, 0]]
        columns = [
            0,
            1,
            9,
            10,
            11,
            12,
            RUN - 1,
            RUN,
            RUN + 1,
            RUN + 11,
            400,
            401,
            2 * RUN + 10,
            3 * RUN - 20,
            3 * RUN - 1,
        ]
        for m in (turned, still, leaning):
            for kind in ("linear", "cubic"):
                got = resample_projective(source, source.shape, m, kind)
                for r in (0, 3, 14, 29, 30, 31, 44, 59):
                    for column in columns:
                        x, y, w = m @ (column, r, 1)
                        wanted = sampled(source, x / w, y / w, kind, widened(math.sqrt(np.linalg.det(m) / w**3)))
                        near = abs(y / w - 31.5) < 2.5 and abs(x / w - 400.5) < 2.5
                        if math.isnan(wanted):
                            self.assertTrue(near)
                            self.assertTrue(math.isnan(got[r, column]))
                        else:
                            self.assertAlmostEqual(float(got[r, column]), wanted, delta=3e-6)

    def test_single_samples_keep_their_type(self) -> None:
        ids = np.random.default_rng(1).integers(0, 1 << 32, (HEIGHT, WIDTH)).astype(np.uint32)
        got = resample(ids, SHAPE, (2.3, 1.1), (0.9, 0.3, -0.2, 0.8), "nearest")
        self.assertEqual(got.dtype, np.uint32)
        for r in range(SHAPE[0]):
            for c in range(SHAPE[1]):
                place = math.floor(1.1 - 0.2 * c + 0.8 * r), math.floor(2.3 + 0.9 * c + 0.3 * r)
                inside = 0 <= place[0] < HEIGHT and 0 <= place[1] < WIDTH
                self.assertEqual(int(got[r, c]), int(ids[place]) if inside else 0)

    def test_under_a_perspective_it_is_widened_from_place_to_place(self) -> None:
        source = plane()
        for matrix in ([[1, 0.1, 2], [-0.1, 1.2, 1], [0.02, 0.03, 1]], [[1, 0, 3], [0, 1, 1], [-0.09, 0.01, 1]]):
            m = np.array(matrix, np.float64)
            for kind in ("linear", "cubic"):
                got = resample_projective(source, SHAPE, m, kind)
                for r in range(SHAPE[0]):
                    for c in range(SHAPE[1]):
                        x, y, w = m @ (c, r, 1)
                        wanted = 0.0
                        if w > 1e-6:
                            ratio = min(MOST_STRETCH, math.sqrt(abs(np.linalg.det(m)) / w**3))
                            wanted = sampled(source, x / w, y / w, kind, widened(ratio))
                        self.assertAlmostEqual(float(got[r, c]), wanted, delta=3e-6)


def matrix_of(found: Taps, length: int) -> NDArray[np.float64]:
    made = np.zeros((len(found.places), length))
    for row, (places, weights) in enumerate(zip(found.places, found.weights, strict=True)):
        for place, share in zip(places, weights, strict=True):
            made[row, place] += share
    return made


class Resized(unittest.TestCase):
    @trials(60)
    @given(
        st.floats(0.2, 5), st.floats(0.2, 5), st.floats(-3, 9), st.floats(-3, 9),
        st.sampled_from(["auto", "area", "lanczos"]),
    )  # fmt: skip
    @example(2.0, 2.0, 0.0, 0.0, "area")
    @example(3.0, 1.0, 1.0, 0.0, "area")
    @example(2.0, 2.0, -1.0, 0.0, "area")
    @example(1.0, 1.0, 0.0, 0.0, "lanczos")
    def test_each_axis_is_a_sum_of_what_it_is_made_of(
        self, down: float, across: float, top: float, left: float, kind: str
    ) -> None:
        source = plane()
        rows = taps(top, 5, down, (0, HEIGHT), kind)
        columns = taps(left, 7, across, (0, WIDTH), kind)
        wanted = matrix_of(rows, HEIGHT) @ source.astype(np.float64) @ matrix_of(columns, WIDTH).T
        np.testing.assert_allclose(resized(source, 0, 0, rows, columns), wanted, atol=2e-6)

    @trials(40)
    @given(
        st.floats(0.2, 3), st.floats(0.2, 3), st.floats(-3, 9), st.floats(-3, 9), st.sampled_from(["auto", "lanczos"])
    )
    def test_without_overshoot_it_is_held_by_what_it_is_made_of(
        self, down: float, across: float, top: float, left: float, kind: str
    ) -> None:
        source = np.where(plane() > 0.5, np.float32(7), np.float32(0.25))
        rows, columns = taps(top, 5, down, (0, HEIGHT), kind), taps(left, 7, across, (0, WIDTH), kind)
        free = resized(source, 0, 0, rows, columns)
        held = resized(source, 0, 0, rows, columns, overshoot=False)
        for r in range(5):
            for c in range(7):
                beside = source[
                    np.ix_(rows.places[r][rows.weights[r] != 0], columns.places[c][columns.weights[c] != 0])
                ]
                self.assertAlmostEqual(held[r, c], np.clip(free[r, c], beside.min(), beside.max()), delta=2e-6)
                self.assertTrue(beside.min() <= held[r, c] <= beside.max())

    def test_what_weighs_nothing_may_be_no_number(self) -> None:
        source = plane()
        source[:, 8:] = np.nan
        rows, columns = taps(0, 6, 2.0, (0, HEIGHT), "area"), taps(0, 4, 2.0, (0, WIDTH), "area")
        self.assertTrue(np.isfinite(resized(source, 0, 0, rows, columns)).all())
        rows, columns = taps(0.25, 6, 1.5, (0, HEIGHT), "area"), taps(0, 4, 1.75, (0, WIDTH), "area")
        self.assertTrue(np.isfinite(resized(source, 0, 0, rows, columns)).all())


class Carried(unittest.TestCase):
    @trials(30)
    @given(st.integers(0, 999), st.floats(0.005, 0.9), st.one_of(st.floats(0.5, 9), st.just(math.inf)))
    def test_unknown_pixels_take_the_nearest_known_value(self, seed: int, share: float, distance: float) -> None:
        random = np.random.default_rng(seed)
        known = random.random((21, 29)) < share
        values = random.random(known.shape, np.float32)
        (got,) = carried([values], known, distance, 0.0)
        ys, xs = np.nonzero(known)
        for (y, x), value in np.ndenumerate(got):
            far = np.hypot(ys - y, xs - x)
            if known[y, x] or not len(ys) or far.min() > distance + 1e-9:
                self.assertEqual(value, values[y, x])
            else:
                nearest = np.isclose(far, far.min(), atol=1e-9)
                self.assertIn(value, values[ys[nearest], xs[nearest]])


class Parts(unittest.TestCase):
    @given(st.integers(0, 5000), st.integers(1, 300))
    def test_bands_cover_a_length_once(self, length: int, least: int) -> None:
        parts = bands(length, least)
        self.assertEqual([row for first, last in parts for row in range(first, last)], list(range(length)))
        for first, last in parts[:-1]:
            self.assertGreaterEqual(last - first, least)

    def test_what_is_copied_by_several_is_all_there_and_nothing_beside_it(self) -> None:
        random = np.random.default_rng(5)
        for height, width, kind in ((3, 5, np.float32), (1, 400_000, np.float32), (700, 600, np.float64)):
            source = random.random((height + 3, width + 4)).astype(kind)[2:-1, 1:-3]
            around = np.full((height + 2, width + 2), -1, kind)
            copy(source, around[1:-1, 1:-1])
            np.testing.assert_array_equal(around[1:-1, 1:-1], source)
            around[1:-1, 1:-1] = -1
            self.assertTrue((around == -1).all())

    def test_what_is_cut_out_is_moved_as_what_stands_alone(self) -> None:
        whole = np.random.default_rng(6).random((640, 700), np.float32)
        cut = whole[7:607, 20:660]
        self.assertGreater(cut.nbytes, COPIED_TOGETHER)
        moved = [resample(each, (50, 60), (100.3, 90.6), (0.9, 0.2, -0.2, 0.9), "cubic") for each in (cut, cut.copy())]
        np.testing.assert_array_equal(*moved)
