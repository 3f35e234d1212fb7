"""Closed-form matting of large outlines: within the memory that is stated, as exact as in one go, quiet."""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys
import textwrap
import threading
import unittest
from unittest import mock

import numpy as np
from core_support import CoreTest

from nexal.kernels import matting
from nexal.kernels.colour_lines import matting_laplacian
from nexal.picture import Plane


def outline(size: int, band: float = 12) -> tuple[np.ndarray, Plane, Plane]:
    """A disc that fills most of the picture, over another colour, with noise; its trimap is one thin closed band."""
    y, x = np.mgrid[0:size, 0:size].astype(np.float32)
    away = np.hypot(x - size / 2, y - size / 2) - size * 0.42
    truth = np.clip(0.5 - away / 6, 0, 1)
    random = np.random.default_rng(1)
    colour = truth[..., None] * np.float32([0.8, 0.3, 0.2]) + (1 - truth[..., None]) * np.float32([0.1, 0.4, 0.2])
    image = (colour + random.normal(0, 0.005, (size, size, 3))).astype(np.float32)
    trimap = np.where(away < -band, 1, np.where(away > band, 0, 0.5)).astype(np.float32)
    return image, trimap, truth


class Laplacian(CoreTest):
    def test_it_is_that_of_the_paper(self) -> None:
        random = np.random.default_rng(1)
        for size in ((24, 31), (3, 3), (3, 40)):
            image = random.random((*size, 3)) * 0.9
            free = random.random(size) < 0.4
            free[0, 0] = True
            found = matting_laplacian(image, free).toarray()
            np.testing.assert_allclose(found, by_windows(image)[free.ravel()], atol=1e-9)

    def test_it_holds_at_any_brightness(self) -> None:
        random = np.random.default_rng(2)
        ramp = np.linspace(0, 1, 20)[None, :, None] * np.ones((12, 1, 3))
        for light in (1.0, 30.0, 1e3, 65504.0, 3e38):
            rows = matting_laplacian(ramp * light + random.normal(0, 1e-3, ramp.shape), np.ones((12, 20), bool))
            # Alpha that is the same everywhere, or runs along the colours, costs nothing; and none costs less.
            np.testing.assert_allclose(rows @ np.ones(240), 0, atol=1e-7)
            if light <= 65504:
                along = ramp[..., 0].ravel()
                self.assertLess(float(along @ rows @ along), 1e-2 / light)
            self.assertGreater(np.linalg.eigvalsh(rows.toarray()).min(), -1e-7)


def by_windows(image: np.ndarray) -> np.ndarray:
    """Equation 12 of Levin, Lischinski and Weiss, window by window, with NumPy's own inverses."""
    height, width, _ = image.shape
    numbers = np.arange(height * width).reshape(height, width)
    found = np.zeros((height * width, height * width))
    for y in range(1, height - 1):
        for x in range(1, width - 1):
            window = (slice(y - 1, y + 2), slice(x - 1, x + 2))
            colours, own = image[window].reshape(9, 3), numbers[window].ravel()
            away = colours - colours.mean(axis=0)
            spread = away.T @ away / 9 + np.eye(3) * 1e-7 / 9
            found[np.ix_(own, own)] += np.eye(9) - (1 + away @ np.linalg.inv(spread) @ away.T) / 9
    return found


class LargeOutlines(CoreTest):
    def test_in_blocks_as_in_one_go(self) -> None:
        image, trimap, truth = outline(640)
        self.assertGreater(trimap.size, matting.LARGE)
        blocks = matting.closed_form(image, trimap, lambda done: None)
        with mock.patch.object(matting, "LARGE", 10**9):
            whole = matting.closed_form(image, trimap, lambda done: None)
        self.assert_planes(blocks, whole, 2e-3)
        self.assertLess(float(np.abs(blocks - truth)[trimap == 0.5].mean()), 0.01)

    def test_areas_without_numbers_and_very_bright_ones_are_solved(self) -> None:
        image, trimap, truth = outline(96, 8)
        for value in (np.nan, np.inf, -np.inf, 65504, 1e6, -1e6, 3e38):
            with self.subTest(value=value):
                odd = image.copy()
                odd[4:24, 38:58] = value
                alpha = matting.closed_form(odd, trimap, lambda done: None)
                self.assertTrue(np.isfinite(alpha).all())
                self.assertTrue(alpha.min() >= 0 and alpha.max() <= 1)
                # Away from it everything is as it was.
                self.assertLess(float(np.abs(alpha - truth)[60:].mean()), 2e-3)

    def test_edges_of_lights_are_as_exact_as_others(self) -> None:
        _, trimap, truth = outline(160, 10)
        for light in (1, 3, 10, 60, 200, 20_000):
            for hue in ((1, 1, 1), (0.8, 0.3, 0.2)):
                with self.subTest(light=light, hue=hue):
                    # Without noise, as it is computed.
                    clean = truth[..., None] * np.float32(hue) * light + (1 - truth[..., None]) * np.float32(0.2)
                    alpha = matting.closed_form(clean, trimap, lambda done: None)
                    self.assertLess(float(np.abs(alpha - truth)[trimap == 0.5].mean()), 1e-5)

    def test_memory_stays_within_what_is_stated(self) -> None:
        size = 1400
        script = f"""
            import resource, sys
            from test_matting import matting, outline
            peak = lambda: resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
            # The library and its compiler are loaded before.
            matting.closed_form(*outline(96, 8)[:2], lambda done: None)
            image, trimap, _ = outline({size})
            before = peak()
            matting.closed_form(image, trimap, lambda done: None)
            print(peak() - before)
        """
        found = subprocess.run(
            [sys.executable, "-c", textwrap.dedent(script)],
            check=True,
            capture_output=True,
            text=True,
            timeout=300,
            env={**os.environ, "PYTHONPATH": ":".join(sys.path)},
        )
        self.assertLess(int(found.stdout), matting.memory_needed(size, size))

    def test_other_threads_keep_their_standard_output(self) -> None:
        image, trimap, _ = outline(96, 10)
        out, stop = io.StringIO(), threading.Event()
        lost = []

        def speak() -> None:
            while not stop.is_set():
                lost.append(sys.stdout is not out)

        with contextlib.redirect_stdout(out):
            thread = threading.Thread(target=speak)
            thread.start()
            for _ in range(3):
                matting.closed_form(image, trimap, lambda done: None)
            stop.set()
            thread.join()
        self.assertEqual((any(lost), out.getvalue()), (False, ""))


if __name__ == "__main__":
    unittest.main()
