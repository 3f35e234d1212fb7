"""What the browser is sent: half floats of what there is, and bytes of what is seen of it."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.analysis.samples import WORTH_THREADS, Ends, code_planes, ends_of, half_planes
from nexal.analysis.view import ViewPlanes
from nexal.picture import Alpha, Description, Picture, Window

with np.errstate(invalid="ignore"):
    ALL_HALVES = np.arange(1 << 16, dtype=np.uint16).view(np.float16).astype(np.float32).reshape(256, 256)
    EXACT = np.clip(ALL_HALVES.astype(np.float64), -1e6, 1e6)


def picture(**planes: np.ndarray) -> Picture:
    height, width = next(iter(planes.values())).shape
    window = Window(0, 0, width, height)
    description = Description(channels=tuple(planes), display=window, window=window)
    return Picture(description, window, Fraction(1), dict(planes))


def codes(seen: ViewPlanes, ends: list[Ends | None], exposure: float) -> np.ndarray:
    sent = np.frombuffer(code_planes(seen.picture, ends, exposure), np.uint8)
    return sent.reshape(len(seen.picture.planes), *next(iter(seen.picture.planes.values())).shape)


def encoded(light: np.ndarray) -> np.ndarray:
    """IEC 61966-2-1 in double precision, of light in 0 to 1."""
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 0.0031308) ** (1 / 2.4) - 0.055)


def decoded(value: np.ndarray) -> np.ndarray:
    """The light that a display value stands for."""
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


class Codes(unittest.TestCase):
    def assert_codes(self, found: np.ndarray, wanted: np.ndarray) -> None:
        """The nearest code; the one beside it only where the value stands half way between both."""
        np.testing.assert_allclose(found, 255 * wanted, atol=0.5 + 1e-3)

    @trials(40)
    @given(exposure=st.floats(-8, 8, allow_subnormal=False))
    def test_colour_is_as_it_is_seen_at_an_exposure(self, exposure: float) -> None:
        seen = ViewPlanes(picture(R=ALL_HALVES), [None])
        ends = ends_of(seen, Alpha.NONE, exposure)
        self.assertEqual(ends, [None])
        assert ends
        light = np.clip(np.nan_to_num(EXACT, nan=0.0) * 2.0**exposure, 0, 1)
        self.assert_codes(codes(seen, ends, exposure)[0], encoded(light))

    @trials(40)
    @given(
        low=st.floats(-50, 50, width=16),
        span=st.floats(0.25, 1000, width=16),
        exposure=st.floats(-4, 4, allow_subnormal=False),
    )
    def test_data_is_seen_through_its_range(self, low: float, span: float, exposure: float) -> None:
        seen = ViewPlanes(picture(Z=ALL_HALVES), [(low, low + span)])
        ends = ends_of(seen, Alpha.NONE, exposure)
        assert ends
        grey = (np.nan_to_num(EXACT, nan=low) - low) / span * 2.0**exposure
        self.assert_codes(codes(seen, ends, exposure)[0], np.clip(grey, 0, 1))

    def test_what_is_finished_and_what_covers_is_as_it_is(self) -> None:
        ramp = np.linspace(-0.5, 1.5, 64, dtype=np.float32).reshape(8, 8)
        finished = ViewPlanes(picture(R=ramp, G=ramp, B=ramp), [None] * 3, finished=True)
        self.assertEqual(ends_of(finished, Alpha.NONE, 3.0), [(0.0, 1.0)] * 3)
        light, alpha = np.maximum(ramp, 0), np.clip(ramp, 0, 1)
        cut = ViewPlanes(picture(R=light, A=alpha), [None, (0.0, 1.0)])
        ends = ends_of(cut, Alpha.PREMULTIPLIED, 2.0)
        self.assertEqual(ends, [None, (0.0, 1.0)])
        assert ends
        colour, cover = codes(cut, ends, 2.0)
        self.assert_codes(colour, encoded(np.clip(light.astype(np.float64) * 4, 0, 1)))
        self.assert_codes(cover, alpha)
        # By itself, an alpha is looked at like any other matte.
        self.assertEqual(ends_of(ViewPlanes(picture(A=ramp), [(0.0, 1.0)]), Alpha.STRAIGHT, -1.0), [(0.0, 2.0)])

    def test_what_an_alpha_is_still_to_cover_is_sent_whole(self) -> None:
        ramp = np.linspace(0, 4, 64, dtype=np.float32).reshape(8, 8)
        straight = ViewPlanes(picture(R=ramp, A=ramp), [None, (0.0, 1.0)])
        self.assertIsNone(ends_of(straight, Alpha.STRAIGHT, 0.0))
        data = ViewPlanes(picture(X=ramp, alpha=ramp), [(-1.0, 1.0), (0.0, 1.0)])
        self.assertIsNone(ends_of(data, Alpha.PREMULTIPLIED, 0.0))

    @trials(200)
    @given(
        st.lists(st.floats(width=16) | st.floats(0, 2, width=16), min_size=1, max_size=4),
        st.lists(st.floats(width=16) | st.floats(0, 1, width=16), min_size=1, max_size=4),
        st.floats(-6, 6, allow_subnormal=False),
        st.sampled_from([0.0, 0.1, 1.0]),
    )
    def test_over_a_backdrop_it_looks_as_in_full(
        self, lights: list[float], alphas: list[float], exposure: float, behind: float
    ) -> None:
        light, alpha = (np.ascontiguousarray(each, np.float32) for each in np.meshgrid(lights, alphas))
        seen = ViewPlanes(picture(R=light, A=alpha), [None, (0.0, 1.0)])
        ends = ends_of(seen, Alpha.PREMULTIPLIED, exposure)
        odd = not (np.all(light >= 0) and np.all(alpha >= 0) and np.all(alpha <= 1))
        if ends is None:
            self.assertTrue(odd)
            return
        sent = codes(seen, ends, exposure) / 255
        shown = decoded(sent[0]) + (1 - sent[1]) * behind
        whole = np.minimum(light.astype(np.float64) * 2.0**exposure, 1e6) + (1 - alpha.astype(np.float64)) * behind
        both = (encoded(np.clip(np.nan_to_num(each), 0, 1)) for each in (shown, whole))
        # Half a code of the light and half a code of alpha, each as steep as the display curve is where they are added.
        np.testing.assert_allclose(*both, atol=0.5 / 255 + 12.92 * 0.5 / 255 * behind + 2e-3)

    def test_large_and_lying_otherwise_in_memory(self) -> None:
        random = np.random.default_rng(3).random((1200, 1000), np.float32)
        for plane in (random, random.T, random[::2, ::-3], random.astype(np.float64)):
            seen = ViewPlanes(picture(R=plane, G=1 - plane), [(0.0, 1.0)] * 2)
            found = codes(seen, [(0.0, 1.0)] * 2, 0.0)
            halves = np.frombuffer(half_planes(seen.picture), np.float16).reshape(found.shape)
            self.assert_codes(found, halves.astype(np.float64))
        self.assertGreater(2 * random.size, WORTH_THREADS)
