"""Point operations as they are recorded and run in one pass, against the same run by NumPy, and against float64."""

from __future__ import annotations

import unittest
from collections.abc import Mapping, Sequence
from typing import Any
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource, plan_of, rgba
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray
from patience import trials
from test_mixing import CASES, EXAMPLES, sources

from nexal.engine import Engine
from nexal.engine.chains import Unrecorded
from nexal.engine.evaluate import recorded
from nexal.kernels.blending import BLENDS
from nexal.kernels.instructions import LARGEST_EXPONENT, Op
from nexal.kernels.pointmath import decode, encode
from nexal.kernels.recording import NotRecorded, Program, Recording
from nexal.operations import PointOperation, catalogue
from nexal.picture import Alpha, Plane

NUMPY_ONLY = {"formula: exp(a.r)", "formula: sin(a.g * 9)", "formula: a.r ** a.g", "formula: pow(a.r, 40)"}
"""What the machine has no instruction for."""

FORMULAS = (
    "a.g - max(a.r, a.b) * 0.8",
    "clamp(a.g, 0.1, 0.8) ** 0.7 if a.r > 0.5 else -a.b / (a.r - a.g)",
    "smoothstep(0.2, a.b, a.r) + step(0.5, a.g) * (0.1 < a.r <= 0.9)",
    "mix(a.r, a.g, x / width) + y / height * sqrt(abs(a.b)) + frame",
    "min(a.r, a.g, a.b) ** 2.2 + (a.r == a.r) + (a.r != 0.5)",
    "exp(a.r)",
    "sin(a.g * 9)",
    "a.r ** a.g",
    "pow(a.r, 40)",
)

MORE: dict[str, Sequence[Mapping[str, Any]]] = {
    "cross": [
        {"mode": mode, "domain": domain, "invert_b": domain == "scene", "mix": 0.7 if domain == "scene" else 1}
        for mode in BLENDS
        for domain in ("display", "scene")
    ],
    "stack": [{"mode": mode, "opacity": 0.8} for mode in ("over", "xor", "soft-light", "color-burn", "divide")],
    "stretch": [{"middle": 0.3, "clip": False}, {"domain": "scene", "black": 0.7, "white": 0.2}],
    "grade": [{"power": [1.2, 0.8, 1.0], "slope": [2, 1, 0.3], "offset": -0.1}, {"exposure": -3}],
    "arithmetic": [
        {"op": op, "values": {"R": value, "G": 0.3}, "clamp": value > 2}
        for op, value in (
            ("divide", 0.7),
            ("power", 2),
            ("power", 0.3),
            ("power", -1.5),
            ("minimum", 0.4),
            ("power", 3),
        )
    ],
    "clear_backing": [{"colour": [0.2, 0.3, 0.1], "encoding": "display", "clamp": True, "result": "premultiplied"}],
    "threshold": [{"level": 0.5}],
    "luma_pull": [{"domain": "display", "high_softness": 0.2}, {"domain": "scene"}],
    "space_matte": [{"shape": shape, "profile": "smooth", "softness": 0.3} for shape in ("ball", "box", "slab")],
    "formula": [{"expressions": {"Y": text}} for text in FORMULAS]
    + [{"expressions": {"R": "a.b", "G": "1 - a.r", "B": "0.5"}, "domain": "display"}],
    "despill": [{"screen": "blue", "limit": "average", "keep_luminance": 0.5}],
    "ramp": [{"start": [3, 5], "end": [80, 60], "profile": profile} for profile in ("radial", "smooth")],
    "logic": [{"mode": mode} for mode in ("intersect", "subtract", "exclude")],
}


def odd(seed: int) -> dict[str, MemorySource]:
    """The pictures of `sources`, with what no picture should hold strewn into them."""
    random = np.random.default_rng(seed)
    strange = np.array([0, -0.0, 1, -1, 0.5, 0.0031308, 0.04045, 1e-40, 3e38, -3e38, 1e-30, np.inf, -np.inf, np.nan])
    result = {}
    for name, source in sources(seed, "noise", Alpha.STRAIGHT).items():
        planes = {}
        for channel, plane in source.planes.items():
            planes[channel] = plane.copy()
            planes[channel][random.random(plane.shape) < 0.2] = random.choice(strange).astype(np.float32)
            planes[channel][::7] = random.choice(strange, plane[::7].shape)
            planes[channel][::5] = random.normal(0, 4, plane[::5].shape)
        result[name] = MemorySource(planes, alpha=source.description.alpha, data=source.description.data)
    return result


def both_ways(
    op: str, setting: Mapping[str, Any], given_sources: Mapping[str, MemorySource]
) -> tuple[Mapping[str, Plane], Mapping[str, Plane], list[str]]:
    """What an operation gives recorded, what by NumPy, and the items that were not recorded."""
    case = CASES[op]
    step = {"name": "result", "op": op, "in": dict(case.ports), "set": dict(setting)}
    plan = plan_of([*case.before, step], given_sources)
    left: list[str] = []

    def watched(*asked: Any) -> Program:
        try:
            return recorded(*asked)
        except Unrecorded as error:
            left.append(error.node.item)
            raise

    def refused(chain: Any, *_: Any) -> Program:
        raise Unrecorded(chain.nodes[-1])

    feed = plan.feed("result")
    region = feed.description.window if not feed.description.window.empty else None
    with np.errstate(all="ignore"):
        with mock.patch("nexal.engine.evaluate.recorded", watched):
            ours = Engine(0, threads=2).evaluate(feed, plan, region=region).planes
        with mock.patch("nexal.engine.evaluate.recorded", refused):
            plain = Engine(0, threads=2).evaluate(feed, plan, region=region).planes
    return ours, plain, left


class EveryPointOperation(CoreTest):
    def test_recorded_it_gives_what_numpy_gives(self) -> None:
        points = [name for name, operation in catalogue().items() if isinstance(operation, PointOperation)]
        not_recorded = set()
        for op in points:
            for setting in [CASES[op].set, *MORE.get(op, [])]:
                told = f"{op}: {next(iter(setting['expressions'].values()))}" if op == "formula" else op
                with self.subTest(op=op, setting=setting):
                    for seed in (1, 2) if setting == CASES[op].set else (1,):
                        ours, plain, left = both_ways(op, setting, odd(seed))
                        not_recorded |= {told} if "result" in left else set()
                        self.assertEqual(list(ours), list(plain))
                        for name, plane in ours.items():
                            self.assert_same(plane, plain[name], f"{told} {name}")
        self.assertEqual(not_recorded, NUMPY_ONLY)

    def assert_same(self, ours: Plane, plain: Plane, told: str) -> None:
        """As near as sums of a few powers in single precision are to each other; the same where nothing is finite."""
        self.assertEqual((ours.shape, ours.dtype), (plain.shape, plain.dtype), told)
        finite = np.isfinite(plain)
        # What comes close to overflow may pass it on one side alone.
        edge = np.abs(np.where(finite, plain, 0)) > 1e37
        np.testing.assert_array_equal(np.isfinite(ours) | edge, finite | edge, err_msg=told)
        rest = ~finite & ~edge
        np.testing.assert_array_equal(np.isnan(ours[rest]), np.isnan(plain[rest]), err_msg=told)
        near = finite & ~edge & np.isfinite(ours)
        np.testing.assert_allclose(ours[near], plain[near], rtol=2e-5, atol=2e-6, err_msg=told)


class Powers(CoreTest):
    """The machine's powers against float64."""

    @staticmethod
    def of(values: Plane, make: Any) -> NDArray[np.float64]:
        recording = Recording()
        result = np.empty_like(values)
        recording.program([make(recording.input("v"))]).run({"v": values}, [result], (0, 0, 1))
        return result.astype(np.float64)

    @staticmethod
    def exactly_encoded(x: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)

    @staticmethod
    def exactly_decoded(x: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)

    def setUp(self) -> None:
        random = np.random.default_rng(4)
        self.values = np.exp(random.uniform(-14, 14, (200, 1001))).astype(np.float32)

    def test_encoding_is_exact_to_a_millionth(self) -> None:
        exact = self.values.astype(np.float64)
        np.testing.assert_allclose(self.of(self.values, encode), self.exactly_encoded(exact), rtol=1e-6)
        np.testing.assert_allclose(self.of(-self.values, encode), -self.exactly_encoded(exact), rtol=1e-6)
        np.testing.assert_allclose(self.of(self.values, decode), self.exactly_decoded(exact), rtol=1e-6)
        np.testing.assert_allclose(self.of(-self.values, decode), -self.exactly_decoded(exact), rtol=1e-6)
        np.testing.assert_allclose(self.of(self.values, np.cbrt), np.cbrt(exact), rtol=1e-6)

    @trials(60)
    @given(st.floats(0.01, LARGEST_EXPONENT), st.booleans())
    def test_any_exponent_is_exact_to_a_millionth(self, exponent: float, under: bool) -> None:
        exponent = -exponent if under else exponent
        values = np.exp(np.linspace(-5, 5, 4001)).astype(np.float32)[None]
        exact = values.astype(np.float64) ** exponent
        np.testing.assert_allclose(self.of(values, lambda value: value**exponent), exact, rtol=1e-6)

    def test_what_is_no_ordinary_number(self) -> None:
        values = np.array(
            [[np.nan, np.inf, -np.inf, 0, -0.0, 1e-40, -1e-40, 1e-45, 3e38, -3e38, 1, -1, -2, 2]], np.float32
        )
        with np.errstate(all="ignore"):
            for exponent in (0.5, 2.2, 3.0, -1.0, -1.5, -2.0, 0.25, 4.0, -0.5, 5.0):
                plain = np.power(values, np.float32(exponent))
                # Square roots of minus infinity differ between NumPy's own ways.
                plain[0, 2] = self.of(values, lambda value, e=exponent: value**e)[0, 2] if exponent % 1 else plain[0, 2]
                ours = self.of(values, lambda value, e=exponent: value**e)
                np.testing.assert_allclose(ours, plain, rtol=1e-5, err_msg=str(exponent))
                if exponent != 0.5:
                    np.testing.assert_array_equal(np.signbit(ours[plain == 0]), np.signbit(plain[plain == 0]))
            for function in (encode, decode, np.cbrt):
                np.testing.assert_allclose(self.of(values, function), function(values), rtol=1e-5)


class Recordings(CoreTest):
    def test_the_same_is_done_once_and_what_is_not_needed_never(self) -> None:
        recording = Recording()
        a, b = recording.input("a"), recording.input("b")
        _unused = encode(b) * np.float32(3)
        program = recording.program([encode(a) + encode(a), encode(a)])
        self.assertEqual([Op(op) for op in program.code[:, 0]], [Op.ENCODE, Op.ADD])
        self.assertEqual(program.inputs, ("a",))

    def test_two_instructions_of_which_nobody_else_wants_the_first_are_one(self) -> None:
        recording = Recording()
        a, b, c = (recording.input(name) for name in "abc")
        planes = {
            name: np.random.default_rng(n).normal(0, 9, (3, 700)).astype(np.float32) for n, name in enumerate("abc")
        }
        planes["a"][0, :3] = np.nan, np.inf, -0.0
        for values, ops in (
            ((a * b + c,), [Op.MULTIPLY_ADD]),
            ((c + a * b,), [Op.MULTIPLY_ADD]),
            ((np.clip(a, b, c),), [Op.CLIP]),
            ((np.minimum(c, np.maximum(a, b)),), [Op.MAXIMUM, Op.MINIMUM]),
            ((a * b, a * b + c), [Op.MULTIPLY, Op.ADD]),
            ((a * b + a * b,), [Op.MULTIPLY, Op.ADD]),
            ((a * b + c * c,), [Op.MULTIPLY, Op.MULTIPLY_ADD]),
        ):
            program = recording.program(values)
            self.assertEqual(sorted(program.code[:, 0]), sorted(ops))
            results = [np.empty((3, 700), np.float32) for _ in values]
            program.run(planes, results, (0, 0, 1))
            with mock.patch("nexal.kernels.recording._PAIRS", {}):
                apart = recording.program(values)
            self.assertGreaterEqual(len(apart.code), len(program.code))
            plain = [np.empty((3, 700), np.float32) for _ in values]
            apart.run(planes, plain, (0, 0, 1))
            for one, other in zip(results, plain, strict=True):
                np.testing.assert_array_equal(one.view(np.uint32), other.view(np.uint32))

    def test_a_power_is_the_same_whatever_stands_beside_it_in_its_row(self) -> None:
        values = np.random.default_rng(1).random((1, 512), np.float32)
        values[0, ::7] = 0
        odd = np.concatenate([values, values * -1, values * 1e-39, values * 1e38], axis=1)
        for exponent in (0.7, 1.3, -0.4, 16, -16, 0.001):
            recording = Recording()
            program = recording.program([np.power(recording.input("a"), exponent)])
            alone, among = np.empty_like(values), np.empty_like(odd)
            program.run({"a": values}, [alone], (0, 0, 1))
            turned = np.ascontiguousarray(odd.reshape(4, 512).T.reshape(1, -1))
            program.run({"a": turned}, [among], (0, 0, 1))
            among = among.reshape(512, 4).T[:1]
            np.testing.assert_array_equal(alone.view(np.uint32), among.view(np.uint32), str(exponent))

    def test_cells_are_used_again(self) -> None:
        recording = Recording()
        value = recording.input("a")
        for number in range(100):
            value = value * np.float32(1 + number) + recording.input("b")
        self.assertLessEqual(recording.program([value]).cells, 3)

    def test_outputs_may_be_inputs_numbers_and_each_other(self) -> None:
        plane = np.arange(1200, dtype=np.float32).reshape(2, 600)
        recording = Recording()
        a = recording.input("a")
        double = a + a
        results = [np.empty_like(plane) for _ in range(5)]
        recording.program([a, double, np.float32(7), double, double * 0 + a]).run({"a": plane}, results, (0, 0, 1))
        for got, wanted in zip(results, [plane, 2 * plane, np.full_like(plane, 7), 2 * plane, plane], strict=True):
            np.testing.assert_array_equal(got, wanted)

    def test_planes_cut_out_of_others_are_read_in_place(self) -> None:
        large = np.random.default_rng(1).random((40, 1500), np.float32)
        for part in (large[3:20, 7:1300], large[::2, 5:900], large[:, ::3]):
            recording = Recording()
            result = np.empty_like(part)
            recording.program([-recording.input("a")]).run({"a": part}, [result], (0, 0, 1))
            np.testing.assert_array_equal(result, -part)

    def test_what_it_does_not_know_it_says(self) -> None:
        recording = Recording()
        a = recording.input("a")
        for ask in (
            lambda: bool(a > 0),
            lambda: np.sin(a),
            lambda: np.asarray(a),
            lambda: a + np.ones(3, np.float32),
            lambda: np.sort(a),
            lambda: np.add.reduce(a),
            lambda: a & 1,
        ):
            self.assertRaises(NotRecorded, ask)

    def test_a_long_chain_with_one_step_for_numpy_is_the_same(self) -> None:
        steps = [
            {"name": "one", "op": "invert", "in": {"from": "p"}},
            {"name": "two", "op": "formula", "in": {"a": "one"}, "set": {"expressions": {"Y": "exp(a.r) - a.g"}}},
            {"name": "three", "op": "stretch", "in": {"from": "two"}, "set": {"white": 2.5}},
        ]
        plan = plan_of(steps, {"p": rgba(700, 90)})
        engine = Engine(0, threads=2)
        got = engine.evaluate(plan.feed("three"), plan).planes["Y"]
        self.assertEqual(engine.computed, {"one": 1, "two": 1, "three": 1})
        one = [1 - plane for plane in engine.evaluate(plan.feed("p"), plan).planes.values()]
        np.testing.assert_allclose(got, np.clip((np.exp(one[0]) - one[1]) / 2.5, 0, 1), atol=1e-6)

    @EXAMPLES
    @given(st.integers(1, 1200), st.integers(1, 40), st.integers(1, 3))
    def test_every_size_is_filled_to_its_last_pixel(self, width: int, height: int, channels: int) -> None:
        planes = [np.random.default_rng(n).random((height, width), np.float32) for n in range(channels)]
        recording = Recording()
        values = [recording.input(n) for n in range(channels)]
        total = values[0] * 2
        for value in values[1:]:
            total = total + value
        results = [np.full((height, width), np.nan, np.float32)]
        recording.program([total]).run(dict(enumerate(planes)), results, (0, 0, 1))
        np.testing.assert_allclose(results[0], planes[0] * 2 + sum(planes[1:]), rtol=1e-6)


if __name__ == "__main__":
    unittest.main()
