"""Renders as renderers write them: what layers are by content, tiles, parts, a thousand channels."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
from core_support import CoreTest, gradient, write_exr

from nexal.recipe import SourceSpec
from nexal.session import Session

SHAPE = (72, 96)


def unit_vectors(seed: int = 1) -> dict[str, np.ndarray]:
    """Directions spread over the sphere."""
    random = np.random.default_rng(seed)
    height = random.uniform(-1, 1, SHAPE)
    turn = random.uniform(0, 2 * np.pi, SHAPE)
    flat = np.sqrt(1 - height**2)
    return {"x": flat * np.cos(turn), "y": flat * np.sin(turn), "z": height}


class ByContent(CoreTest):
    def layers(self, planes: dict[str, np.ndarray]) -> dict[str, tuple[str, str]]:
        path = write_exr(self.folder() / "render.exr", planes)
        with Session() as session:
            header = session.open(path, SourceSpec()).stored.header
        return {layer["name"]: (layer["role"], layer["reason"]) for layer in header["layers"]}

    def test_layers_whose_names_say_nothing(self) -> None:
        random = np.random.default_rng(2)
        vectors = unit_vectors()
        edge = random.random(SHAPE) < 0.06
        planes: dict[str, np.ndarray] = {name: gradient(96, 72).astype(np.float16) for name in "RGB"}
        for axis, plane in vectors.items():
            # Anti-aliased edges shorten some of the vectors, and nothing is hit in a corner.
            shortened = np.where(edge, plane * 0.6, plane)
            shortened[:20, :20] = 0
            planes[f"aov1.{axis}"] = shortened.astype(np.float16)
            planes[f"aov2.{'RGB'['xyz'.index(axis)]}"] = (plane * 0.5 + 0.5).astype(np.float16)
            planes[f"aov3.{axis}"] = (random.uniform(-1, 1, SHAPE) * 12).astype(np.float32)
        planes["aov4.v"] = (3 + 20 * gradient(96, 72)).astype(np.float32)
        planes["aov5.v"] = np.floor(random.random(SHAPE) * 9).astype(np.float32)
        planes["aov6.v"] = np.clip(gradient(96, 72) * 3 - 1, 0, 1).astype(np.float16)
        planes["aov7.a1"] = (random.standard_normal(SHAPE) * 4).astype(np.float16)
        planes["aov7.a2"] = (random.standard_normal(SHAPE) * 4).astype(np.float16)
        planes["aov8.a1"], planes["aov8.a2"] = (random.random(SHAPE).astype(np.float16) for _ in "ab")
        found = self.layers(planes)
        expected = {
            "aov1": ("normal", "length 1"),
            "aov2": ("normal", "packed into 0 to 1"),
            "aov3": ("position", "both sides of 0"),
            "aov4": ("depth", "positive everywhere"),
            "aov5": ("id", "whole numbers up to 8"),
            "aov6": ("mask", "from 0 to 1"),
            "aov7": ("motion", "both sides of 0"),
            "aov8": ("uv", "two channels from 0 to 1"),
            "": ("colour", "R, G, B"),
        }
        for layer, (role, reason) in expected.items():
            with self.subTest(layer):
                self.assertEqual(found[layer][0], role)
                self.assertIn(reason, found[layer][1])

    def test_light_is_not_taken_for_data(self) -> None:
        random = np.random.default_rng(3)
        planes: dict[str, np.ndarray] = {}
        for index, name in enumerate("RGB"):
            planes[f"beauty2.{name}"] = (gradient(96, 72, index) * 4).astype(np.float16)
            planes[f"dark.{name}"] = np.zeros(SHAPE, np.float16)
            planes[f"flat.{name}"] = np.full(SHAPE, 0.5, np.float16)
            planes[f"soft.{name}"] = random.random(SHAPE).astype(np.float16)
        found = self.layers(planes)
        self.assertEqual({role for role, _ in found.values()}, {"colour"})

    def test_what_says_nothing_stays_unknown(self) -> None:
        planes = {
            "aov1.v": np.zeros(SHAPE, np.float16),
            "aov2.v": np.full(SHAPE, np.nan, np.float32),
            "aov3.v": np.random.default_rng(1).standard_normal(SHAPE).astype(np.float32),
        }
        self.assertEqual({role for role, _ in self.layers(planes).values()}, {"unknown"})

    def test_the_name_wins_over_the_content(self) -> None:
        planes = {f"reflection.{n}": p.astype(np.float16) for n, p in zip("RGB", unit_vectors().values(), strict=True)}
        self.assertEqual(self.layers(planes)["reflection"][0], "light")

    def test_data_by_content_is_not_averaged_in_proxies(self) -> None:
        ids = np.floor(np.random.default_rng(4).random(SHAPE) * 9).astype(np.float32)
        path = write_exr(self.folder() / "render.exr", {"aov5.v": ids})
        with Session() as session:
            source = session.open(path, SourceSpec())
            half = source.read(["aov5.v"], Fraction(1, 2), source.description.window.scaled(Fraction(1, 2)))["aov5.v"]
        np.testing.assert_array_equal(half, ids[::2, ::2])


class Storage(CoreTest):
    def read(self, path: Path, *channels: str) -> dict[str, np.ndarray]:
        with Session() as session:
            source = session.open(path, SourceSpec())
            return dict(source.read(channels, Fraction(1), source.description.window))

    def test_tiled_and_mip_mapped_files_give_their_first_level(self) -> None:
        import OpenImageIO as oiio

        pixels = np.stack([gradient(96, 72, seed).astype(np.float16) for seed in range(3)], axis=-1)
        for mip in (False, True):
            with self.subTest(mip=mip):
                path = self.folder() / "tiled.exr"
                spec = oiio.ImageSpec(96, 72, 3, "half")
                buffer = oiio.ImageBuf(spec)
                self.assertTrue(buffer.set_pixels(spec.roi, pixels))
                if mip:
                    options = oiio.ImageSpec(96, 72, 3, "half")
                    options.attribute("maketx:resize", 0)
                    options.tile_width = options.tile_height = 32
                    made = oiio.ImageBufAlgo.make_texture(oiio.MakeTxTexture, buffer, str(path), options)
                    self.assertTrue(made, oiio.geterror())
                    self.assertGreater(oiio.ImageBuf(str(path)).nmiplevels, 1)
                else:
                    buffer.set_write_tiles(32, 32)
                    self.assertTrue(buffer.write(str(path)), buffer.geterror())
                    self.assertEqual(oiio.ImageBuf(str(path)).spec().tile_width, 32)
                for name, plane in self.read(path, "R", "G", "B").items():
                    np.testing.assert_array_equal(plane, pixels[..., "RGB".index(name)].astype(np.float32))

    def test_views_keep_their_names(self) -> None:
        import OpenEXR

        left, right = (gradient(20, 12, seed).astype(np.float16) for seed in (1, 2))
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, "multiView": ["left", "right"]}
        path = self.folder() / "views.exr"
        with OpenEXR.File(header, {"G": left, "right.G": right}) as file:
            file.write(str(path))
        found = self.read(path, "G", "right.G")
        np.testing.assert_array_equal(found["G"], left.astype(np.float32))
        np.testing.assert_array_equal(found["right.G"], right.astype(np.float32))

    def test_a_thousand_channels(self) -> None:
        count, shape = 1000, (18, 32)
        planes = {f"pass{i // 3:03}.{'RGB'[i % 3]}": np.full(shape, i / 1000, np.float16) for i in range(count)}
        path = write_exr(self.folder() / "wide.exr", planes)
        with Session() as session:
            source = session.open(path, SourceSpec())
            self.assertEqual(len(source.description.channels), count)
            self.assertEqual(len(source.stored.header["layers"]), 334)
            for number in (0, 499, 999):
                name = f"pass{number // 3:03}.{'RGB'[number % 3]}"
                plane = source.read([name], Fraction(1), source.description.window)[name]
                self.assertEqual(float(plane[3, 3]), float(np.float16(number / 1000)))
