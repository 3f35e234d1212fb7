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


class LargeOutlines(CoreTest):
    def test_in_blocks_as_in_one_go(self) -> None:
        image, trimap, truth = outline(640)
        self.assertGreater(trimap.size, matting.LARGE)
        blocks = matting.closed_form(image, trimap, lambda done: None)
        with mock.patch.object(matting, "LARGE", 10**9):
            whole = matting.closed_form(image, trimap, lambda done: None)
        self.assert_planes(blocks, whole, 2e-3)
        self.assertLess(float(np.abs(blocks - truth)[trimap == 0.5].mean()), 0.01)

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
