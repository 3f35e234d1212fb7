"""Files in: every format bit by bit, windows, alpha, orientation; and files that lie or are broken."""

from __future__ import annotations

import json
import struct
import zlib
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from core_support import CoreTest, gradient, write_exr, write_raster

from nexal.analysis.run import run_recipe
from nexal.analysis.view import probe
from nexal.colour import primaries_matrix, rgb_to_xyz
from nexal.engine import Engine, Plan
from nexal.formats.decoded import Limits, plain, storable
from nexal.formats.raster import read_picture
from nexal.formats.reading import StoredSource
from nexal.formats.statistics import report
from nexal.kernels.mixing import block_means
from nexal.picture import Alpha, Window
from nexal.recipe import SourceSpec, parse_recipe
from nexal.session import Session

FULL = Fraction(1)


def box(x: int, y: int, width: int, height: int) -> tuple[np.ndarray, np.ndarray]:
    return np.array([x, y], np.int32), np.array([x + width - 1, y + height - 1], np.int32)


class FormatTest(CoreTest):
    def setUp(self) -> None:
        self.session = Session()
        self.addCleanup(self.session.__exit__)
        self.place = self.folder()

    def open(self, path: Path, **spec: Any) -> StoredSource:
        return self.session.open(path, SourceSpec(**spec))

    def read(self, source: StoredSource, *channels: str) -> list[np.ndarray]:
        planes = source.read(channels, FULL, source.description.window)
        return [planes[name] for name in channels]


class Exr(FormatTest):
    def test_mixed_sample_types_bit_by_bit(self) -> None:
        random = np.random.default_rng(1)
        half = random.standard_normal((20, 30)).astype(np.float16)
        whole = random.standard_normal((20, 30)).astype(np.float32)
        ids = random.integers(0, 1 << 32, (20, 30), np.uint32)
        path = write_exr(self.place / "mixed.exr", {"R": half, "depth.Z": whole, "id.object": ids})
        decoded = read_picture(path, Limits()).parts[0].channels
        np.testing.assert_array_equal(decoded["R"].view(np.uint16), half.view(np.uint16))
        np.testing.assert_array_equal(decoded["depth.Z"], whole)
        np.testing.assert_array_equal(decoded["id.object"], ids)
        stored = self.open(path).stored
        self.assertEqual(
            {name: row["type"] for name, row in stored.channels.items()},
            {"R": "half", "depth.Z": "float", "id.object": "uint"},
        )
        np.testing.assert_array_equal(stored.samples("id.object"), ids)

    def test_every_lossless_compression(self) -> None:
        import OpenEXR

        plane = gradient(37, 23).astype(np.float16)
        for kind in ("NO", "RLE", "ZIPS", "ZIP", "PIZ"):
            header = {"compression": getattr(OpenEXR, f"{kind}_COMPRESSION")}
            source = self.open(write_exr(self.place / f"{kind}.exr", {"R": plane}, header))
            np.testing.assert_array_equal(self.read(source, "R")[0], plane.astype(np.float32))

    def test_windows_smaller_and_larger_than_the_picture(self) -> None:
        plane = gradient(20, 10)
        header = {"displayWindow": box(100, 50, 16, 16), "dataWindow": box(98, 53, 20, 10)}
        source = self.open(write_exr(self.place / "w.exr", {"R": plane}, header))
        self.assertEqual(source.description.display, Window(0, 0, 16, 16))
        self.assertEqual(source.description.window, Window(-2, 3, 20, 10))
        self.assertEqual(source.description.origin, (100, 50))
        self.assert_planes(self.read(source, "R")[0], plane, 0)

    def test_parts_become_layers_and_windows_are_joined(self) -> None:
        import OpenEXR

        common = {"type": OpenEXR.scanlineimage, "displayWindow": box(0, 0, 16, 8)}
        parts = [
            OpenEXR.Part(
                common | {"dataWindow": box(0, 0, 16, 8)}, {"R": np.full((8, 16), 0.5, np.float16)}, name="beauty"
            ),
            OpenEXR.Part(common | {"dataWindow": box(4, 2, 4, 4)}, {"fog.R": np.ones((4, 4), np.float32)}, name="fog"),
        ]
        path = self.place / "parts.exr"
        with OpenEXR.File(parts) as file:
            file.write(str(path))
        source = self.open(path)
        self.assertEqual(source.description.channels, ("beauty.R", "fog.R"))
        fog = self.read(source, "fog.R")[0]
        self.assertEqual(fog.shape, (8, 16))
        self.assertEqual((fog.sum(), fog[2:6, 4:8].sum()), (16, 16))

    def test_any_channel_name(self) -> None:
        names = ["R", "a.b.c.d.Z", "Größe", "with space", "UPPER.lower", "0"]
        path = write_exr(
            self.place / "names.exr", {name: np.full((4, 4), n, np.float32) for n, name in enumerate(names)}
        )
        source = self.open(path)
        self.assertEqual(sorted(source.description.channels), sorted(names))
        for number, name in enumerate(names):
            self.assert_planes(self.read(source, name)[0], number, 0)

    def test_not_finite_values_pass_or_become_zero_and_are_counted(self) -> None:
        plane = np.array([[np.nan, np.inf, -np.inf, 0.5]], np.float16)
        path = write_exr(self.place / "nan.exr", {"R": plane})
        kept = self.read(self.open(path), "R")[0]
        self.assertTrue(np.isnan(kept[0, 0]) and np.isinf(kept[0, 1:3]).all())
        zero = self.read(self.open(path, non_finite="zero"), "R")[0]
        self.assert_planes(zero, [[0, 0, 0, 0.5]], 0)
        report = self.open(path).stored.report("R")
        self.assertEqual((report["non_finite"], report["min"], report["max"]), (0.75, 0.5, 0.5))

    def test_chromaticities_are_brought_to_rec_709(self) -> None:
        wide = (0.708, 0.292, 0.170, 0.797, 0.131, 0.046, 0.3127, 0.3290)
        matrix = np.linalg.inv(rgb_to_xyz((0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290))) @ rgb_to_xyz(wide)
        pixels = {name: gradient(seed=n) for n, name in enumerate("RGB")}
        path = write_exr(self.place / "wide.exr", pixels, {"chromaticities": wide})
        wanted = np.einsum("ij,jyx->iyx", matrix, np.stack([pixels[c] for c in "RGB"]).astype(float))
        for plane, expected in zip(self.read(self.open(path), "R", "G", "B"), wanted, strict=True):
            self.assert_planes(plane, expected, 1e-5)
        self.assert_planes(self.read(self.open(path, colour="data"), "R")[0], pixels["R"], 0)
        self.assertIsNone(primaries_matrix((0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)))


class Raster(FormatTest):
    codes = (np.random.default_rng(3).random((12, 10, 4)) * 255.99).astype(np.uint8)

    def linear(self, code: np.ndarray, full: int) -> np.ndarray:
        v = code.astype(float) / full
        return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)

    def test_png_of_8_and_16_bit_is_straight_and_encoded(self) -> None:
        for dtype, full in ((np.uint8, 255), (np.uint16, 65535)):
            codes = self.codes.astype(dtype) * (1 if full == 255 else 257)
            codes[0, 0] = (full, full // 2, 1, 0)  # colour under a transparent pixel
            source = self.open(write_raster(self.place / f"p{full}.png", codes, ["R", "G", "B", "A"]))
            self.assertIs(source.description.alpha, Alpha.STRAIGHT)
            red, alpha = self.read(source, "R", "A")
            self.assert_planes(red, self.linear(codes[..., 0], full), 2e-6)
            self.assert_planes(alpha, codes[..., 3].astype(float) / full, 1e-6)
            self.assert_planes(
                self.read(self.open(self.place / f"p{full}.png", colour="data"), "R")[0],
                codes[..., 0].astype(float) / full,
                1e-6,
            )

    def test_readings_override_the_format(self) -> None:
        path = write_raster(self.place / "p.png", self.codes, ["R", "G", "B", "A"])
        self.assertIs(self.open(path, read_alpha="premultiplied").description.alpha, Alpha.PREMULTIPLIED)
        self.assert_planes(self.read(self.open(path, colour="linear"), "R")[0], self.codes[..., 0] / 255, 1e-6)
        aces = self.read(self.open(path, colour="ACEScg"), "R", "G", "B")
        self.assertGreater(np.abs(aces[0] - self.codes[..., 0] / 255).max(), 0.05)
        self.assert_refused(lambda: self.open(path, colour="nowhere"), "colour space", "nowhere")

    def test_tiff_says_itself_whether_it_is_premultiplied(self) -> None:
        path = write_raster(self.place / "s.tif", self.codes, ["R", "G", "B", "A"])
        source = self.open(path)
        self.assertIs(source.description.alpha, Alpha.STRAIGHT)
        np.testing.assert_array_equal(source.stored.samples("G"), self.codes[..., 1])
        path = write_raster(self.place / "a.tif", self.codes, ["R", "G", "B", "A"], oiio__UnassociatedAlpha=0)
        source = self.open(path)
        self.assertIs(source.description.alpha, Alpha.PREMULTIPLIED)
        np.testing.assert_array_equal(source.stored.samples("G"), self.codes[..., 1])

    def test_float_tiff_hdr_tga_dpx_webp_and_jpeg(self) -> None:
        values = np.stack([gradient(12, 10, seed) * 3 for seed in range(3)], -1)
        rgb_names = ["R", "G", "B"]
        tiff = self.open(write_raster(self.place / "f.tif", values, rgb_names))
        self.assert_planes(self.read(tiff, "B")[0], values[..., 2], 0)
        hdr = self.open(write_raster(self.place / "f.hdr", values, rgb_names))
        self.assert_planes(self.read(hdr, "R")[0], values[..., 0], 0.02)
        tga = self.open(write_raster(self.place / "t.tga", self.codes, ["R", "G", "B", "A"]))
        np.testing.assert_array_equal(tga.stored.samples("R"), self.codes[..., 0])
        dpx = self.open(write_raster(self.place / "d.dpx", self.codes[..., :3].astype(np.uint16) * 257, rgb_names))
        np.testing.assert_array_equal(dpx.stored.samples("G"), self.codes[..., 1].astype(np.uint16) * 257)
        smooth = (np.stack([gradient(64, 64, 5)] * 3, -1) * 200).astype(np.uint8)
        for name in ("j.jpg", "w.webp"):
            lossy = self.open(write_raster(self.place / name, smooth, rgb_names, Compression="jpeg:95"))
            codes = lossy.stored.samples("G").astype(int)
            self.assertLess(np.abs(codes - smooth[..., 1]).mean(), 6, name)

    def test_orientation_is_honoured(self) -> None:
        turned = {
            1: lambda a: a,
            2: np.fliplr,
            3: lambda a: np.rot90(a, 2),
            4: np.flipud,
            5: lambda a: np.transpose(a),
            6: lambda a: np.rot90(a, -1),
            7: lambda a: np.rot90(np.transpose(a), 2),
            8: lambda a: np.rot90(a, 1),
        }
        codes = self.codes[..., 0]
        for orientation, turn in turned.items():
            path = self.place / f"o{orientation}.tif"
            write_raster(path, np.ascontiguousarray(codes[..., None]), ["Y"], Orientation=orientation)
            source = self.open(path)
            np.testing.assert_array_equal(source.stored.samples("Y"), turn(codes), str(orientation))

    def test_ink_pictures_keep_their_inks(self) -> None:
        from PIL import Image

        inks = np.zeros((16, 16, 4), np.uint8)
        inks[..., 0], inks[..., 3] = 200, 20
        for name in ("ink.jpg", "ink.tif"):
            Image.fromarray(inks, "CMYK").save(self.place / name, quality=98)
            source = self.open(self.place / name)
            self.assertEqual(source.description.channels, ("C", "M", "Y", "K"), name)
            self.assertTrue(source.description.all_data)
            cyan, black = self.read(source, "C", "K")
            self.assert_planes(cyan, 200 / 255, 0.01)
            self.assert_planes(black, 20 / 255, 0.01)

    def test_grey_with_alpha(self) -> None:
        codes = np.tile(np.array([100, 50], np.uint8), (4, 4, 1))
        source = self.open(write_raster(self.place / "la.png", codes, ["Y", "A"]))
        self.assertEqual(source.description.channels, ("Y", "A"))
        self.assertEqual(source.description.colour, ("Y",))
        self.assert_planes(self.read(source, "Y")[0], self.linear(np.array(100), 255), 1e-5)

    def test_a_data_reading_makes_every_channel_data(self) -> None:
        path = write_raster(self.place / "p.png", self.codes, ["R", "G", "B", "A"])
        self.assertTrue(self.open(path, colour="data").description.all_data)


class Proxies(FormatTest):
    def level(self, source: StoredSource, name: str, n: int) -> np.ndarray:
        scale = Fraction(1, n)
        return np.array(source.read([name], scale, source.description.window.scaled(scale))[name])

    def test_colour_is_averaged_and_ids_are_not(self) -> None:
        colour, ids = gradient(16, 12), np.arange(192, dtype=np.uint32).reshape(12, 16)
        source = self.open(write_exr(self.place / "p.exr", {"R": colour, "id.object": ids}))
        mean = colour.astype(float).reshape(6, 2, 8, 2).mean((1, 3))
        self.assert_planes(self.level(source, "R", 2), mean, 1e-6)
        np.testing.assert_array_equal(self.level(source, "id.object", 4), ids[::4, ::4])

    def test_one_comp_is_the_same_at_every_scale_over_white(self) -> None:
        """A straight leaf with black beneath its alpha, in code values: encoded mixtures would be far too dark."""
        random = np.random.default_rng(3)
        alpha = (random.random((64, 96)) < 0.5).astype(np.uint8) * 255
        codes = np.stack([np.where(alpha, 255, 0)] * 3 + [alpha], axis=-1).astype(np.uint8)
        source = self.open(write_raster(self.place / "leaf.png", codes, ["R", "G", "B", "A"]))
        for n in (1, 2, 4, 8):
            r, a = self.level(source, "R", n), self.level(source, "A", n)
            self.assert_planes((r * a + (1 - a)).astype(np.float32), 1, 1e-6, f"1/{n}")

    def test_encoded_colour_is_averaged_as_light(self) -> None:
        codes = np.tile(np.array([[0, 255], [255, 0]], np.uint8), (8, 8))[..., None].repeat(3, axis=-1)
        source = self.open(write_raster(self.place / "checks.png", codes, ["R", "G", "B"]))
        for n in (2, 4, 8):
            self.assert_planes(self.level(source, "G", n), 0.5, 1e-6)

    def test_a_number_that_is_none_is_taken_out_before_averaging(self) -> None:
        plane = np.ones((16, 16), np.float32)
        plane[3, 5] = np.nan
        path = write_exr(self.place / "nan.exr", {"R": plane})
        for n in (2, 4, 8):
            wanted = np.ones((16 // n, 16 // n), np.float32)
            wanted[3 // n, 5 // n] = 1 - 1 / n**2
            self.assert_planes(self.level(self.open(path, non_finite="zero"), "R", n), wanted, 1e-6)

    def test_depth_of_nothing_is_no_depth(self) -> None:
        depth = np.full((16, 16), 5, np.float32)
        depth[:, 7:] = 1e10
        depth[2, 2] = np.inf
        source = self.open(write_exr(self.place / "depth.exr", {"depth.Z": depth}))
        for n in (2, 4, 8):
            level = self.level(source, "depth.Z", n)
            self.assert_planes(level[:, : 7 // n], 5, 1e-5)
            self.assertTrue(set(np.unique(level)) <= {np.float32(5), np.float32(1e10)}, np.unique(level))

    def test_another_reading_has_its_own_proxies_and_keeps_them(self) -> None:
        codes = np.tile(np.array([[0, 255], [255, 0]], np.uint8), (8, 8))[..., None].repeat(3, axis=-1)
        path = write_raster(self.place / "checks.png", codes, ["R", "G", "B"])
        self.open(path)
        linear = self.open(path, colour="linear", roles={})
        self.assert_planes(self.level(linear, "R", 2), 0.5, 1e-6)
        grey = np.full((16, 16, 3), 128, np.uint8)
        path = write_raster(self.place / "grey.png", grey, ["R", "G", "B"])
        default, data = self.open(path), self.open(path, colour="data")
        self.assertAlmostEqual(float(self.level(default, "R", 8)[0, 0]), 0.21586, 4)
        self.assertAlmostEqual(float(self.level(data, "R", 8)[0, 0]), 128 / 255, 5)
        made = set(data.stored.folder.iterdir())
        self.level(data, "R", 4)
        self.assertEqual(set(data.stored.folder.iterdir()), made)

    def test_blocks_are_anchored_at_the_display_origin(self) -> None:
        plane = np.array([[1, 3, 5, 7]], np.float32)
        np.testing.assert_array_equal(block_means(plane, Window(1, 0, 4, 1), 2), [[1, 4, 7]])
        np.testing.assert_array_equal(block_means(plane, Window(0, 0, 4, 1), 2), [[2, 6]])


class Ids(FormatTest):
    def test_every_digit_from_the_file_to_the_delivery(self) -> None:
        import OpenEXR

        ids = (
            np.array([[0, 3, 1000, 2**24 + 1], [2**31 + 7, 2**32 - 1, 16_777_219, 5]], np.uint32)
            .repeat(6, 0)
            .repeat(4, 1)
        )
        write_exr(self.place / "render.exr", {"R": gradient(16, 12).astype(np.float16), "id.object": ids})
        place = {"name": "moved", "op": "place", "in": {"picture": "p"}, "set": {"x": 0.4, "rotate": 12, "scale": 1.3}}
        resize = {"name": "sized", "op": "resize", "in": {"from": "moved"}, "set": {"width": 31, "height": 17}}
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"p": {"files": "render.exr"}},
                "steps": [place, resize],
                "outputs": {
                    "o": {"from": "sized", "file": "o.exr"},
                    "s": {"from": "p.id", "file": "s.exr", "depth": "half"},
                },
            }
        )
        for path in run_recipe(recipe, self.place, {}, self.place / "out"):
            with OpenEXR.File(str(path), separate_channels=True) as file:
                found = {name: np.array(channel.pixels) for name, channel in file.channels().items()}
            pixels = next(plane for name, plane in found.items() if name.endswith(("object", "Y")))
            self.assertEqual(pixels.dtype, np.uint32, path.name)
            self.assertLessEqual(set(np.unique(pixels)), set(np.unique(ids)) | {0})
            self.assertTrue({2**24 + 1, 2**32 - 1} <= {int(value) for value in np.unique(pixels)}, path.name)
        plan = Plan(recipe, 1, {"p": self.open(self.place / "render.exr")})
        for x, y, wanted in ((13, 1, 2**24 + 1), (5, 8, 2**32 - 1)):
            row = probe(Engine(threads=2), plan, plan.feed("p"), x, y, size=5)
            self.assertEqual(row["channels"][-1]["value"], wanted)


class Damaged(FormatTest):
    def refused(self, name: str, content: bytes, *words: str) -> None:
        path = self.place / name
        path.write_bytes(content)
        self.assert_refused(lambda: self.open(path), name, *words)

    def test_empty_and_text_files(self) -> None:
        self.refused("empty.exr", b"", "is empty")
        self.refused("empty.png", b"", "is empty")
        self.refused("text.exr", b"this is not a picture\n" * 20, "not an EXR")
        self.refused("text.png", b"this is not a picture\n" * 20)

    def test_a_compression_that_does_not_exist(self) -> None:
        name = b"compression\0compression\0"
        for number in (42, 99, 255):
            content = write_exr(self.place / "whole.exr", {"R": gradient(16, 12)}).read_bytes()
            at = content.index(name) + len(name) + 4
            self.refused(f"c{number}.exr", content[:at] + bytes([number]) + content[at + 1 :], f"compression {number}")

    def test_truncated_files(self) -> None:
        noisy = np.random.default_rng(1).random((80, 80, 3))
        exr = write_exr(self.place / "whole.exr", {"R": noisy[..., 0].astype(np.float16)}).read_bytes()
        self.refused("half.exr", exr[: len(exr) // 2], "damaged")
        self.refused("header.exr", exr[:60], "damaged")
        codes = (noisy * 255).astype(np.uint8)
        for name in ("whole.png", "whole.tif", "whole.jpg", "whole.tga", "whole.bmp"):
            content = write_raster(self.place / name, codes, ["R", "G", "B"]).read_bytes()
            self.refused(f"half_{name}", content[: len(content) // 2])

    def test_a_sound_part_of_a_damaged_file_is_read_with_a_warning(self) -> None:
        import OpenEXR

        noise = np.random.default_rng(1).random((64, 64)).astype(np.float32)
        parts = [OpenEXR.Part({"type": OpenEXR.scanlineimage}, {"R": noise + n}, name=f"part{n}") for n in range(2)]
        path = self.place / "two.exr"
        with OpenEXR.File(parts) as file:
            file.write(str(path))
        content = path.read_bytes()
        path.write_bytes(content[: int(len(content) * 0.75)])
        warnings: list[str] = []
        self.session.warn = warnings.append
        source = self.open(path)
        self.assertEqual(
            source.description.channels, ("R",) if len(source.stored.header["parts"]) == 1 else ("part0.R",)
        )
        self.assertIn("part1", warnings[0])

    def png(self, width: int, height: int, body: bytes) -> bytes:
        def chunk(kind: bytes, data: bytes) -> bytes:
            return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

        header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
        return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", body) + chunk(b"IEND", b"")

    def test_absurd_headers_and_bombs(self) -> None:
        self.refused("absurd.png", self.png(2_000_000_000, 2_000_000_000, zlib.compress(b"")))
        self.refused("wide.png", self.png(60_000, 60_000, zlib.compress(bytes(1000))))
        bomb = zlib.compressobj(9)
        body = b"".join(bomb.compress(bytes(1 << 20)) for _ in range(800)) + bomb.flush()
        self.refused("bomb.png", self.png(16_000, 16_000, body), "unpack")
        exr = bytearray(write_exr(self.place / "e.exr", {"R": np.zeros((4, 4), np.float16)}).read_bytes())
        for window in (b"dataWindow\0box2i\0", b"displayWindow\0box2i\0"):
            at = exr.index(window) + len(window) + 4
            exr[at : at + 16] = struct.pack("<4i", 0, 0, 2_000_000_000, 2_000_000_000)
        self.refused("absurd.exr", bytes(exr))

    def test_texts_that_are_not_utf_8(self) -> None:
        self.assertEqual(storable("Am\udce9lie No\udcebl"), "Am\xe9lie No\xebl")
        self.assertEqual(storable("Am\xe9lie \u6708"), "Am\xe9lie \u6708")
        self.assertEqual(storable("\ud83c"), "?")
        for value in ("\udce9", ["\udce9"], b"\xe9", np.array(["\udce9"])):
            json.dumps(plain(value), ensure_ascii=False).encode()
        path = self.place / "a.tif"
        tifffile.imwrite(path, np.zeros((4, 4, 3), np.uint8), extratags=[(315, 2, 0, b"Am\xe9lie\0", True)])
        self.assertEqual(self.open(path).stored.header["metadata"]["Artist"], "Am\xe9lie")

    def test_attributes_as_large_as_a_file_stay_out_of_the_header(self) -> None:
        path = write_exr(self.place / "a.exr", {"R": gradient(8, 8)}, {"note": "x" * 20_000_000, "short": "y" * 60_000})
        source = self.open(path)
        header = source.stored.header
        self.assertTrue(header["metadata"]["note"].endswith("(20.0 MB)"))
        self.assertLess((source.stored.folder / "header.json").stat().st_size, 200_000)
        self.assertEqual(set(source.description.metadata) & {"note", "short"}, {"short"})

    def test_values_that_span_all_that_single_precision_holds(self) -> None:
        largest = float(np.finfo(np.float32).max)
        plane = np.tile(np.array([[-largest, largest], [0, 1]], np.float32), (8, 8))
        found = report(plane, encoded=False)
        json.dumps(found, allow_nan=False)
        self.assertEqual((found["min"], found["max"]), (-largest, largest))
        self.assertEqual(sum(found["histogram"]["counts"]), plane.size)
        source = self.open(write_exr(self.place / "wide.exr", {"R": plane, "G": plane, "B": plane}))
        json.dumps([source.stored.report(name) for name in "RGB"], allow_nan=False)

    def test_deep_files_are_told_apart(self) -> None:
        exr = bytearray(write_exr(self.place / "e.exr", {"R": np.zeros((4, 4), np.float16)}).read_bytes())
        kind = b"type\0string\0" + struct.pack("<i", 13) + b"scanlineimage"
        deep = bytes(exr).replace(kind, b"type\0string\0" + struct.pack("<i", 12) + b"deepscanline")
        self.assertNotEqual(deep, bytes(exr))
        self.refused("deep.exr", deep, "deep")
