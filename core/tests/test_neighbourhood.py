"""Neighbourhood filters against the plain way, at any size and by parts."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, run
from hypothesis import given, settings
from hypothesis import strategies as st
from test_mixing import EXAMPLES, blocky

from nexal.kernels.filters import WIDE, gaussian_weights
from nexal.kernels.morphology import SMALL, dilate, grow
from nexal.picture import Plane, Window


def dilated(plane: Plane, radius: int, *, round_element: bool) -> Plane:
    """Every pixel of the element compared."""
    offsets = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    element = (np.hypot(*offsets) <= radius) if round_element else np.ones(offsets.shape[1:], bool)
    known = np.where(np.isnan(plane), -np.inf, plane).astype(np.float32)
    return cv2.dilate(known, element.astype(np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=-np.inf)


class Dilation(CoreTest):
    @EXAMPLES
    @given(
        st.integers(0, 10_000),
        st.sampled_from([1, 2, 3, 5, 8, 13, SMALL, SMALL + 1, 40, 90]),
        st.booleans(),
        st.sampled_from([(64, 96), (1, 700), (300, 1), (3, 3), (130, 1100)]),
    )
    def test_it_is_the_largest_value_within(
        self, seed: int, radius: int, round_element: bool, size: tuple[int, int]
    ) -> None:
        random = np.random.default_rng(seed)
        plane = random.normal(0, 3, size).astype(np.float32)
        plane[random.random(size) < 0.02] = random.choice([np.nan, np.inf, -np.inf])
        np.testing.assert_array_equal(
            dilate(plane, radius, round_element=round_element), dilated(plane, radius, round_element=round_element)
        )

    @EXAMPLES
    @given(
        st.integers(0, 10_000),
        st.sampled_from([-24.5, -4.5, -1.5, -0.5, 0.25, 2.75, 12.3, 20.5, SMALL + 0.5, 50.5]),
        st.booleans(),
        st.sampled_from([(64, 96), (1, 300), (3, 3)]),
    )
    def test_a_fraction_lies_between_two_whole_sizes(
        self, seed: int, distance: float, round_element: bool, size: tuple[int, int]
    ) -> None:
        random = np.random.default_rng(seed)
        plane = random.normal(0, 3, size).astype(np.float32)
        plane[random.random(size) < 0.02] = np.nan
        plane[random.random(size) < 0.002] = random.choice([np.inf, -np.inf])
        plane[0, 0] = 1
        before = plane.copy()
        sign, whole = np.float32(math.copysign(1, distance)), math.floor(abs(distance))
        near, far = (dilated(plane * sign, whole + more, round_element=round_element) for more in (0, 1))
        if whole == 0:
            near = plane * sign
        with np.errstate(invalid="ignore"):
            wanted = sign * (near + (far - near) * np.float32(abs(distance) - whole))
        got = grow(plane, distance, round_element=round_element)
        # Where there is nothing but what is no number, there is nothing to lie between.
        there = np.isfinite(near) & np.isfinite(far)
        np.testing.assert_allclose(got[there], wanted[there], atol=1e-5)
        same = (near == far) & (whole > 0)
        np.testing.assert_array_equal(got[same], sign * near[same])
        np.testing.assert_array_equal(plane, before)

    def test_a_single_pixel_becomes_the_middle_of_two_discs(self) -> None:
        for radius in [*range(1, 60), 75, 100, 128, 211]:
            plane = np.zeros((2 * radius + 5, 2 * radius + 5), np.float32)
            plane[radius + 2, radius + 2] = 1
            away = np.hypot(*(np.mgrid[: 2 * radius + 5, : 2 * radius + 5] - radius - 2))
            wanted = ((away <= radius) * 0.5 + (away <= radius + 1) * 0.5).astype(np.float32)
            np.testing.assert_array_equal(grow(plane, radius + 0.5, round_element=True), wanted, f"{radius}")


class WideBlurs(CoreTest):
    @settings(EXAMPLES, max_examples=30)
    @given(st.integers(0, 10_000), st.floats(WIDE, 120), st.sampled_from([(300, 420), (9, 500), (1, 1), (513, 64)]))
    def test_they_are_gaussians_to_a_thousandth(self, seed: int, sigma: float, size: tuple[int, int]) -> None:
        random = np.random.default_rng(seed)
        plane = np.resize(blocky(random), size) * random.choice([1, 40]) - 1
        plane[::2] += random.random(plane[::2].shape)
        plane = plane.astype(np.float32)
        got = run(
            [{"name": "soft", "op": "blur", "in": {"from": "m"}, "set": {"radius": sigma}}],
            {"m": MemorySource({"Y": plane}, data=["Y"])},
        ).planes["Y"]
        weights = gaussian_weights(sigma)
        reach = len(weights) // 2
        around = np.pad(plane, reach, mode="edge")
        direct = cv2.sepFilter2D(around, cv2.CV_32F, weights, weights)[reach:-reach, reach:-reach]
        span = float(plane.max() - plane.min())
        np.testing.assert_allclose(got, direct, rtol=1e-6, atol=1e-3 * span + 1e-5)

    @EXAMPLES
    @given(
        st.integers(0, 10_000), st.floats(WIDE, 90), st.integers(0, 380), st.integers(0, 200), st.sampled_from([1, 2])
    )
    def test_a_part_is_a_part_of_the_whole(self, seed: int, sigma: float, x: int, y: int, scale: int) -> None:
        random = np.random.default_rng(seed)
        plane = np.kron(blocky(random), np.ones((4, 4))).astype(np.float32) + random.random((256, 384), np.float32)
        window = Window(-37, 11, 384, 256)
        given_sources = {"m": MemorySource({"Y": plane}, data=["Y"], window=window, display=Window(0, 0, 300, 300))}
        steps = [{"name": "soft", "op": "blur", "in": {"from": "m"}, "set": {"radius": sigma * scale}}]
        n = Fraction(1, scale)
        whole = run(steps, given_sources, scale=n)
        part = Window(whole.region.x + x // scale, whole.region.y + y // scale, 60, 41).intersect(whole.region)
        if not part.empty:
            got = run(steps, given_sources, scale=n, region=part).planes["Y"]
            np.testing.assert_allclose(got, whole.planes["Y"][part.within(whole.region)], rtol=1e-5, atol=1e-5)


if __name__ == "__main__":
    unittest.main()
