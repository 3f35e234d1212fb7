"""Blend functions and compositing operators against formulas written out pixel by pixel."""

from __future__ import annotations

import math
import unittest

import numpy as np
from core_support import CoreTest, MemorySource, one, rgba

from nexal.kernels.blending import BLENDS
from nexal.picture import Alpha


def w3c(mode: str, b: float, s: float) -> float:
    """B(cb, cs) of *Compositing and Blending Level 1*, in double precision, for one pair of values."""
    if mode not in {"add", "subtract", "multiply", "difference", "divide", "lighten", "darken", "average"}:
        b, s = min(1, max(0, b)), min(1, max(0, s))
    if mode == "normal":
        return s
    if mode == "multiply":
        return b * s
    if mode == "screen":
        return 1 - (1 - b) * (1 - s)
    if mode == "overlay":
        return 2 * b * s if b <= 0.5 else 1 - (1 - (2 * b - 1)) * (1 - s)
    if mode == "darken":
        return min(b, s)
    if mode == "lighten":
        return max(b, s)
    if mode == "color-dodge":
        return 0 if b == 0 else 1 if s == 1 else min(1, b / (1 - s))
    if mode == "color-burn":
        return 1 if b == 1 else 0 if s == 0 else 1 - min(1, (1 - b) / s)
    if mode == "hard-light":
        return 2 * b * s if s <= 0.5 else 1 - (1 - b) * (1 - (2 * s - 1))
    if mode == "soft-light":
        if s <= 0.5:
            return b - (1 - 2 * s) * b * (1 - b)
        d = ((16 * b - 12) * b + 4) * b if b <= 0.25 else math.sqrt(b)
        return b + (2 * s - 1) * (d - b)
    if mode == "difference":
        return abs(b - s)
    if mode == "exclusion":
        return b + s - 2 * b * s
    if mode == "add":
        return b + s
    if mode == "subtract":
        return b - s
    if mode == "divide":
        return 0 if s == 0 else b / s
    return (b + s) / 2


EDGES = [-0.5, 0.0, 0.1, 0.25, 0.3, 0.5, 0.75, 0.9, 1.0, 2.5]


class Blending(CoreTest):
    def grid(self) -> tuple[MemorySource, np.ndarray, np.ndarray]:
        values = np.array(EDGES, np.float32)
        b, s = np.meshgrid(values, values, indexing="ij")
        return MemorySource({"R": b, "G": s}), b, s

    def test_every_mode_equals_its_formula_at_edges_and_beyond_zero_and_one(self) -> None:
        source, b, s = self.grid()
        self.assertEqual(len(BLENDS), 16)
        for mode in BLENDS:
            with self.subTest(mode):
                result = one("cross", {"a": "m.R", "b": "m.G"}, {"m": source}, mode=mode, domain="scene")
                wanted = np.vectorize(lambda x, y, m=mode: w3c(m, x, y), otypes=[float])(
                    b.astype(float), s.astype(float)
                )
                self.assert_planes(result.planes["Y"], wanted)

    def test_modes_that_keep_light_above_one_do(self) -> None:
        bright = MemorySource({"R": np.full((2, 2), 3.0), "G": np.full((2, 2), 2.0)})
        for mode, value in (
            ("add", 5),
            ("subtract", 1),
            ("multiply", 6),
            ("average", 2.5),
            ("divide", 1.5),
            ("screen", 1),
        ):
            result = one("cross", {"a": "m.R", "b": "m.G"}, {"m": bright}, mode=mode, domain="scene")
            self.assert_planes(result.planes["Y"], value)

    def test_mix_and_inversions(self) -> None:
        source, b, s = self.grid()
        result = one(
            "cross",
            {"a": "m.R", "b": "m.G"},
            {"m": source},
            mode="multiply",
            invert_a=True,
            invert_b=True,
            mix=0.25,
            domain="scene",
        )
        a = 1 - b
        self.assert_planes(result.planes["Y"], a + ((1 - b) * (1 - s) - a) * 0.25)

    def test_display_domain_works_on_encoded_colour_and_leaves_data_alone(self) -> None:
        def srgb(v: float) -> float:
            size = abs(v)
            return math.copysign(12.92 * size if size <= 0.0031308 else 1.055 * size ** (1 / 2.4) - 0.055, v)

        source, b, s = self.grid()
        result = one("cross", {"a": "m.R", "b": "m.G"}, {"m": source}, mode="average")
        wanted = (
            np.vectorize(srgb, otypes=[float])(b.astype(float)) + np.vectorize(srgb, otypes=[float])(s.astype(float))
        ) / 2
        self.assert_planes(result.planes["Y"], wanted, 2e-4)
        data = MemorySource({"Z": b, "W": s}, data=["Z", "W"])
        result = one("cross", {"a": "m.Z", "b": "m.W"}, {"m": data}, mode="average")
        self.assert_planes(result.planes["Y"], (b + s) / 2)


FACTORS = {
    "over": lambda a, b: (1, 1 - a),
    "under": lambda a, b: (1 - b, 1),
    "in": lambda a, b: (b, 0),
    "out": lambda a, b: (1 - b, 0),
    "atop": lambda a, b: (b, 1 - a),
    "xor": lambda a, b: (1 - b, 1 - a),
    "plus": lambda a, b: (1, 1),
}


class Stack(CoreTest):
    def expected(self, mode: str, under: MemorySource, over: MemorySource, strength: float) -> dict[str, np.ndarray]:
        """By definition, in double precision, from straight and premultiplied sources alike."""

        def planes(source: MemorySource) -> dict[str, np.ndarray]:
            values = {name: plane.astype(float) for name, plane in source.planes.items()}
            if source.description.alpha is Alpha.STRAIGHT:
                values |= {name: values[name] * values["A"] for name in "RGB"}
            return values

        u, o = planes(under), planes(over)
        o = {name: plane * strength for name, plane in o.items()}
        a, b = o["A"], u["A"]
        result = {}
        for name in "RGB":
            if mode in FACTORS:
                fo, fu = FACTORS[mode](a, b)
                result[name] = o[name] * fo + u[name] * fu
            else:
                cb = np.divide(u[name], b, out=np.zeros_like(b), where=b > 0)
                cs = np.divide(o[name], a, out=np.zeros_like(a), where=a > 0)
                blended = np.vectorize(lambda x, y: w3c(mode, x, y), otypes=[float])(cb, cs)
                result[name] = (1 - b) * o[name] + (1 - a) * u[name] + a * b * blended
        if mode == "plus":
            result["A"] = np.minimum(a + b, 1)
        else:
            fo, fu = FACTORS.get(mode, FACTORS["over"])(a, b)
            result["A"] = a * fo + b * fu
        return result

    def test_every_operator_and_blend_function(self) -> None:
        under = rgba(16, 12, 3, Alpha.PREMULTIPLIED)
        over = rgba(16, 12, 7, Alpha.STRAIGHT)
        for mode in [*FACTORS, *BLENDS]:
            with self.subTest(mode):
                result = one("stack", {"under": "u", "over": "o"}, {"u": under, "o": over}, mode=mode, opacity=0.8)
                self.assertIs(result.description.alpha, Alpha.PREMULTIPLIED)
                for name, wanted in self.expected(mode, under, over, 0.8).items():
                    # Quotients of nearly transparent pixels magnify single precision.
                    tolerance = 1e-5 if mode in FACTORS else 5e-5
                    self.assert_planes(result.planes[name], wanted, tolerance, name)

    def test_a_picture_without_alpha_is_opaque(self) -> None:
        under = MemorySource({name: np.full((4, 4), 0.5) for name in "RGB"})
        over = rgba(4, 4, 2)
        result = one("stack", {"under": "u", "over": "o"}, {"u": under, "o": over})
        a = over.planes["A"]
        self.assert_planes(result.planes["A"], 1)
        self.assert_planes(result.planes["R"], over.planes["R"] * a + 0.5 * (1 - a))

    def test_matte_and_opacity_weigh_the_upper_picture(self) -> None:
        under, over = rgba(8, 8, 1), rgba(8, 8, 5)
        matte = np.linspace(0, 1, 64, dtype=np.float32).reshape(8, 8)
        sources = {"u": under, "o": over, "m": MemorySource({"Y": matte}, data=["Y"])}
        result = one("stack", {"under": "u", "over": "o", "matte": "m"}, sources, opacity=0.5)
        k = over.planes["A"] * matte * 0.5
        wanted = over.planes["G"] * k + under.planes["G"] * under.planes["A"] * (1 - k)
        self.assert_planes(result.planes["G"], wanted)

    def test_a_plane_is_laid_over_as_grey(self) -> None:
        grey = MemorySource({"Y": np.full((4, 4), 0.25)}, data=["Y"])
        result = one("stack", {"under": "u", "over": "m"}, {"u": rgba(4, 4), "m": grey})
        self.assertEqual(result.description.channels, ("R", "G", "B", "A"))
        self.assert_planes(result.planes["B"], 0.25)


if __name__ == "__main__":
    unittest.main()
