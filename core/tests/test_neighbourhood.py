"""Neighbourhood filters against the plain way, at any size and by parts."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, run
from hypothesis import given
from hypothesis import strategies as st
from patience import trials
from test_mixing import EXAMPLES, blocky

from nexal.kernels.discs import LARGE
from nexal.kernels.filters import WIDE, gaussian_weights
from nexal.kernels.morphology import SMALL, grow
from nexal.picture import Plane, Window


def dilated(plane: Plane, radius: int, *, round_element: bool) -> Plane:
    """Every pixel of the element compared; -inf where there is no number."""
    offsets = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    element = (np.hypot(*offsets) <= radius) if round_element else np.ones(offsets.shape[1:], bool)
    known = np.where(np.isnan(plane), -np.inf, plane).astype(np.float32)
    return cv2.dilate(known, element.astype(np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=-np.inf)


def material(random: np.random.Generator, kind: str, size: tuple[int, int]) -> Plane:
    """A plane of noise, of a matte's flat areas and soft edges, of a slope, of few bright dots, or of few numbers."""
    noise = random.normal(0, 3, size).astype(np.float32)
    if kind == "noise":
        return noise
    if kind == "slope":
        rows, columns = np.mgrid[: size[0], : size[1]].astype(np.float32)
        return rows * np.float32(random.normal()) + columns * np.float32(random.normal())
    if kind == "matte":
        soft = np.resize(cv2.blur(np.kron(noise[:30, :30] > 0, np.ones((16, 16), np.float32)), (5, 5)), size)
        return np.ascontiguousarray(soft)
    plane = np.full(size, np.nan if kind == "gaps" else 0, np.float32)
    there = random.random(size) < 0.001
    plane[there] = noise[there]
    return plane


class Dilation(CoreTest):
    @EXAMPLES
    @given(
        st.integers(0, 10_000),
        st.sampled_from([1, 2, 3, 5, 8, 13, SMALL, SMALL + 1, LARGE - 1, LARGE, 40, 63, 64, 90, 170]),
        st.booleans(),
        st.sampled_from([(64, 96), (1, 700), (300, 1), (3, 3), (130, 1100), (411, 530)]),
        st.sampled_from(["noise", "matte", "slope", "dots", "gaps"]),
    )
    def test_it_is_the_largest_value_within(
        self, seed: int, radius: int, round_element: bool, size: tuple[int, int], kind: str
    ) -> None:
        random = np.random.default_rng(seed)
        plane = material(random, kind, size)
        plane[random.random(size) < 0.02] = random.choice([np.nan, np.inf, -np.inf])
        wanted = dilated(plane, radius, round_element=round_element)
        wanted[np.isnan(plane) & np.isneginf(wanted)] = np.nan
        np.testing.assert_array_equal(grow(plane, radius, round_element=round_element), wanted)

    @EXAMPLES
    @given(
        st.integers(0, 10_000),
        st.sampled_from([-24.5, -4.5, -1.5, -0.5, 0.25, 2.75, 12.3, 20.5, SMALL + 0.5, LARGE - 0.5, LARGE + 0.5, 50.5]),
        st.booleans(),
        st.sampled_from([(64, 96), (1, 300), (3, 3)]),
        st.sampled_from(["noise", "matte", "slope", "dots", "gaps"]),
    )
    def test_a_fraction_lies_between_two_whole_sizes(
        self, seed: int, distance: float, round_element: bool, size: tuple[int, int], kind: str
    ) -> None:
        random = np.random.default_rng(seed)
        plane = material(random, kind, size)
        plane[random.random(size) < 0.02] = np.nan
        plane[random.random(size) < 0.002] = random.choice([np.inf, -np.inf])
        plane[0, 0] = 1
        before = plane.copy()
        sign, whole = np.float32(math.copysign(1, distance)), math.floor(abs(distance))
        near, far = (dilated(plane * sign, whole + more, round_element=round_element) for more in (0, 1))
        with np.errstate(invalid="ignore"):
            wanted = near + (far - near) * np.float32(abs(distance) - whole)
        same = near == far
        wanted[same] = near[same]
        # Where the smaller holds nothing, there is nothing to lie between; where both do, it stays as it was.
        wanted[np.isneginf(near)] = far[np.isneginf(near)]
        wanted[np.isneginf(wanted) & np.isnan(plane)] = np.nan
        got = grow(plane, distance, round_element=round_element)
        np.testing.assert_allclose(got, sign * wanted, rtol=1e-6, atol=1e-5)
        np.testing.assert_array_equal(got[same], (sign * wanted)[same])
        np.testing.assert_array_equal(plane, before)

    @trials(20)
    @given(
        st.integers(0, 10_000),
        st.sampled_from([-60.5, -3.25, 2, 20.5, LARGE, 60]),
        st.sampled_from(["round", "square"]),
        st.integers(60, 320),
        st.integers(0, 150),
        st.sampled_from(["noise", "matte", "slope", "dots", "gaps"]),
    )
    def test_a_part_is_a_part_of_the_whole(
        self, seed: int, distance: float, shape: str, x: int, y: int, kind: str
    ) -> None:
        random = np.random.default_rng(seed)
        plane = material(random, kind, (256, 384))
        # Areas without any number, beyond the reach of what grows.
        plane[: 60 + seed % 140, 50:] = np.nan
        sources = {"m": MemorySource({"Y": plane}, data=["Y"])}
        chosen = {"distance": distance, "shape": shape}
        steps = [{"name": "grown", "op": "grow", "in": {"matte": "m"}, "set": chosen}]
        whole = run(steps, sources)
        part = Window(x, y, 60, 41).intersect(whole.region)
        got = run(steps, sources, region=part).planes["Y"]
        np.testing.assert_array_equal(got, whole.planes["Y"][part.within(whole.region)])

    def test_a_single_pixel_becomes_the_middle_of_two_discs(self) -> None:
        for radius in [*range(1, 60), 75, 100, 128, 211]:
            plane = np.zeros((2 * radius + 5, 2 * radius + 5), np.float32)
            plane[radius + 2, radius + 2] = 1
            away = np.hypot(*(np.mgrid[: 2 * radius + 5, : 2 * radius + 5] - radius - 2))
            wanted = ((away <= radius) * 0.5 + (away <= radius + 1) * 0.5).astype(np.float32)
            np.testing.assert_array_equal(grow(plane, radius + 0.5, round_element=True), wanted, f"{radius}")


class WideBlurs(CoreTest):
    @trials(30)
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
