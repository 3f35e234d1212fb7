"""The swinging lantern's frames agree with their own headers and with themselves."""

from __future__ import annotations

import json
import tempfile
import unittest
from functools import cache
from pathlib import Path

import numpy as np
import OpenEXR

from demo.night.generate import SEQUENCES, _write_exr
from demo.night.lantern import (
    FRAMES,
    LANTERN,
    NAMES,
    Swing,
    camera_at,
    channels_of,
    flame_at,
    header_at,
    make_swing,
    write_swing,
)
from demo.night.naming import hashed_bits, murmur3

SIZE = (160, 90)


@cache
def swing(frame: int) -> Swing:
    return make_swing(frame, *SIZE, grid=2)


class Lantern(unittest.TestCase):
    def test_positions_fall_on_their_own_pixels_and_depth_is_along_the_view(self) -> None:
        for frame in (1, 20):
            found, camera = swing(frame), camera_at(frame)
            there = found.depth < 1e9
            self.assertTrue(0.5 < there.mean() < 1, "the window is open")
            y, x = np.nonzero(there)
            points = np.concatenate([found.position[there], np.ones((len(x), 1))], axis=1)
            for name, attribute in header_at(frame, *SIZE).items():
                seen = points @ attribute.astype(float)
                if name == "worldToNDC":
                    at = seen[:, :2] / seen[:, 3:] * SIZE
                    self.assertLess(np.abs(at - np.stack([x + 0.5, y + 0.5], axis=1)).max(), 0.01)
                else:
                    np.testing.assert_allclose(seen[:, 2], found.depth[there], rtol=1e-4)
            along = (found.position[there] - camera[:3, 3]) @ camera[:3, 2]
            np.testing.assert_allclose(along, found.depth[there], rtol=1e-4)

    def test_passes_add_up_and_things_cover_what_alpha_says(self) -> None:
        found = swing(1)
        np.testing.assert_allclose(found.full, sum(found.passes.values()), atol=1e-6)
        np.testing.assert_allclose(found.cover.sum(axis=-1), found.alpha, atol=1e-5)
        self.assertTrue((np.diff(found.cover, axis=-1) <= 1e-6).all(), "ranked by coverage")
        self.assertEqual(
            set(np.unique(found.ids)) - {0}, set(range(1, len(NAMES) + 1)) - {3}, "all but the beam is seen"
        )

    def test_the_lantern_swings_with_its_flame(self) -> None:
        for frame in (1, 10, 28):
            camera = camera_at(frame)
            away = (flame_at(frame) - camera[:3, 3]) @ camera[:3, :3]
            wide = 2 * np.tan(np.radians(58.0) / 2)
            at = (away[0] / away[2] / wide + 0.5) * SIZE[0]
            columns = np.nonzero(swing(frame).ids[..., 0] == LANTERN)[1]
            self.assertLess(abs(columns.mean() - at), 8, frame)

    def test_the_file_holds_camera_and_names(self) -> None:
        channels = channels_of(swing(1))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "swing.0001.exr"
            write_swing(
                Path(folder),
                lambda path, _, header: _write_exr(path, channels, more=header),
                frames=1,
            )
            with OpenEXR.File(str(path), separate_channels=True) as file:
                header, read = dict(file.header()), file.channels()["objects00.R"].pixels
        self.assertEqual(header["worldToNDC"].shape, (4, 4))
        (key,) = {name.split("/")[1] for name in header if name.startswith("cryptomatte/")}
        self.assertEqual(key, f"{murmur3(b'objects'):08x}"[:7])
        manifest = json.loads(header[f"cryptomatte/{key}/manifest"])
        bits = {int(value, 16) for value in manifest.values()} | {0}
        self.assertLessEqual(set(np.unique(np.ascontiguousarray(read).view(np.uint32)).tolist()), bits)
        self.assertEqual(SEQUENCES["swing.%04d.exr"], FRAMES)

    def test_hashes_are_those_of_the_published_vectors(self) -> None:
        fox = "The quick brown fox jumps over the lazy dog"
        for text, value in (("", 0), ("test", 0xBA6BD213), ("Hello, world!", 0xC0363E43), (fox, 0x2E4FF723)):
            self.assertEqual(murmur3(text.encode()), value, text)
        for number in range(3000):
            self.assertNotIn(hashed_bits(f"pod {number}") >> 23 & 255, (0, 255))


if __name__ == "__main__":
    unittest.main()
