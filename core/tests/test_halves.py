"""Half floats: rounded, and widened again, as NumPy does it, by whichever code this processor has."""

from __future__ import annotations

import os
import subprocess
import sys
from unittest import mock

import numpy as np
from core_support import CoreTest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from numpy.typing import NDArray
from patience import trials

from nexal.kernels import ahead, halves

EVERY = np.arange(65536, dtype=np.uint16).view(np.float16)
WAYS = {
    "by instruction": {what: what for what in ("narrow", "widen")},
    "by bits": {what: f"{what}_by_bits" for what in ("narrow", "widen")},
    "by NumPy": {},
}


def trying_values() -> NDArray[np.float32]:
    """Every half, what lies beside it, what lies between two of them, and the ends."""
    wide = EVERY.astype(np.float32)
    finite = wide[np.isfinite(wide)]
    between = [np.nextafter(finite, np.float32(side)) for side in (np.inf, -np.inf)]
    middles = (np.sort(finite)[1:] + np.sort(finite)[:-1]) / 2
    limits = np.array(
        [65504, 65519.996, 65520, 1e30, -1e30, 2**-25, 2**-24, 1e-45, -0.0, np.nan, np.inf, -np.inf], np.float32
    )
    return np.concatenate([wide, *between, middles, limits])[None, :]


class Halves(CoreTest):
    def use(self, way: str) -> None:
        """Convert by one way from now on."""
        if way == "by instruction" and not halves._knows_halves():
            self.skipTest("this processor has no instructions for half floats")
        known = {what: ahead.loaded("nexal.kernels.half_codes", name, "iii") for what, name in WAYS[way].items()}
        self.enterContext(mock.patch.object(halves, "_known", known))
        self.enterContext(mock.patch.object(halves, "FEW", 0 if known else 1 << 60))

    def assert_same_bits(self, got: NDArray[np.generic], wanted: NDArray[np.generic]) -> None:
        np.testing.assert_array_equal(got, wanted)
        numbers, kind = ~np.isnan(wanted), f"u{wanted.itemsize}"
        np.testing.assert_array_equal(got.view(kind)[numbers], wanted.view(kind)[numbers])

    def test_every_half_and_everything_between_rounds_as_numpy_does(self) -> None:
        values = trying_values()
        with np.errstate(over="ignore"):
            wanted = values.astype(np.float16)
        for way in WAYS:
            with self.subTest(way):
                self.use(way)
                self.assert_same_bits(halves.to_halves(values), wanted)

    def test_every_half_is_widened_to_its_own_value(self) -> None:
        wanted = EVERY.reshape(256, 256).astype(np.float32)
        for way in WAYS:
            with self.subTest(way):
                self.use(way)
                self.assert_same_bits(halves.from_halves(EVERY.reshape(256, 256)), wanted)

    @trials(100)
    @given(arrays(np.float16, (9, 14)), st.integers(0, 5), st.integers(1, 3), st.integers(1, 3))
    def test_parts_of_a_picture_are_widened_wherever_they_lie(
        self, samples: NDArray[np.float16], first: int, down: int, across: int
    ) -> None:
        part = samples[first::down, first::across]
        for what in ("widen", "widen_by_bits"):
            known = {"widen": ahead.loaded("nexal.kernels.half_codes", what, "iii")}
            with mock.patch.object(halves, "_known", known):
                got = halves.from_halves(part)
            self.assert_same_bits(got, part.astype(np.float32))
            self.assertTrue(got.flags.writeable and got.flags.c_contiguous)

    def test_until_there_is_compiled_code_numpy_converts_and_nothing_is_compiled(self) -> None:
        many = np.tile(EVERY, 4).reshape(256, -1)
        program = (
            "import sys, numpy as np\n"
            "from nexal.kernels.halves import from_halves, to_halves\n"
            "samples = np.frombuffer(sys.stdin.buffer.read(), np.float16).reshape(256, -1)\n"
            "sys.stdout.buffer.write(to_halves(from_halves(samples)).tobytes())\n"
            "assert 'numba' not in sys.modules\n"
        )
        folder = self.folder()
        done = subprocess.run(
            [sys.executable, "-c", program],
            input=many.tobytes(),
            env=os.environ | {"NUMBA_CACHE_DIR": str(folder)},
            capture_output=True,
            check=True,
        )
        back = np.frombuffer(done.stdout, np.float16).reshape(many.shape)
        np.testing.assert_array_equal(back, many)
        self.assertEqual(list(folder.iterdir()), [])
