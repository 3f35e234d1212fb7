"""Tables of what few codes stand for."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np

from nexal.formats.reading import _values_of
from nexal.kernels.lookup import looked_up


def decoded(values: np.ndarray) -> np.ndarray:
    """IEC 61966-2-1, in double precision, continued by sign below 0."""
    size = np.abs(values.astype(np.float64))
    with np.errstate(invalid="ignore", over="ignore"):
        light = np.where(size <= 0.04045, size / 12.92, ((size + 0.055) / 1.055) ** 2.4)
    return np.sign(values) * light


class Lookup(unittest.TestCase):
    def test_the_same_as_indexing_from_whatever_memory(self) -> None:
        rng = np.random.default_rng(7)
        for kind, many in ((np.uint8, 1 << 8), (np.uint16, 1 << 16)):
            table = rng.normal(size=many).astype(np.float32)
            codes = rng.integers(0, many, (37, 53)).astype(kind)
            with tempfile.TemporaryDirectory() as folder:
                np.save(Path(folder) / "codes.npy", codes)
                mapped = np.load(Path(folder) / "codes.npy", mmap_mode="r")
                for seen in (codes, codes[3:20, 5:41], codes[::2, ::-3], codes.T, mapped, mapped[4:9, 7:8], codes[:0]):
                    np.testing.assert_array_equal(looked_up(table, seen), table[seen])
            self.assertTrue(codes.flags.writeable)
            self.assertTrue(table.flags.writeable)

    def test_a_table_of_another_length_is_none(self) -> None:
        with self.assertRaises(ValueError):
            looked_up(np.zeros(255, np.float32), np.zeros((2, 2), np.uint8))

    def test_every_code_stands_for_what_the_formula_says(self) -> None:
        for kind, full in (("uint8", 255), ("uint16", 65535)):
            codes = np.arange(full + 1) / full
            np.testing.assert_allclose(_values_of(kind, False), codes, rtol=1e-6)
            np.testing.assert_allclose(_values_of(kind, True), decoded(codes), rtol=2e-6, atol=1e-12)
        halves = np.arange(1 << 16, dtype=np.uint16).view(np.float16)
        np.testing.assert_array_equal(_values_of("float16", False), halves.astype(np.float32))
        finite = np.isfinite(halves)
        table = _values_of("float16", True)
        np.testing.assert_allclose(table[finite], decoded(halves[finite]), rtol=2e-6, atol=1e-12)
        np.testing.assert_array_equal(np.isfinite(table), finite)
        np.testing.assert_array_equal(np.isnan(table), np.isnan(halves))
