"""What holds for every operation: whatever the alpha state, the scale and the region, it is the same picture."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, run
from hypothesis import given, settings
from hypothesis import strategies as st
from patience import trials

from nexal.errors import NexalError
from nexal.operations import catalogue
from nexal.operations.mixing import MixingOperation
from nexal.picture import Alpha, Picture, Plane, Trait, Window

SIZE = (64, 96)
EXAMPLES, FEW = trials(6), trials(2)


def examples(op: str) -> settings:
    """Fewer of what is slow."""
    return FEW if catalogue()[op].slow else EXAMPLES


@dataclass(frozen=True)
class Case:
    """How an operation is used, and how far its proxies may be from the full result, in the mean, and the pictures of
    the two alpha states from each other anywhere.

    `held` says that what a filter makes is held by its samples, alpha and light each by its own: where alpha is held
    at 0 a premultiplied picture keeps a little light that a straight one has no place for, `HELD_LIGHT` at most.
    `stored` says why it works on numbers as they are stored, so that a premultiplied picture is another thing to it.
    """

    ports: Mapping[str, Any] = field(default_factory=dict)
    set: Mapping[str, Any] = field(default_factory=dict)
    proxy: float = 1e-5
    stored: str = ""
    before: Sequence[Mapping[str, Any]] = ()
    state: float = 2e-4
    held: bool = False


HELD_LIGHT = 0.08
ONE, MATTE = "pic", "mask"
LEVELS = MATTE
"""A plane of few values, taken for distances."""
WIDE = MemorySource({"Y": np.zeros((40, 112), np.float32)}, data=["Y"])
INKS = {"name": "inks", "op": "ink_split", "in": {"picture": ONE}}
DAB = {"points": [[20, 20], [70, 50]], "radius": 9, "hardness": 0.5, "value": 0.7}
SQUARE = {"points": [[10, 10], [70, 12], [60, 50], [14, 44]]}
NUMBERS = "its numbers are asked for as they are"

CASES: dict[str, Case] = {
    "route": Case({"base": ONE}, {"to": {"mask": {"from": MATTE}}}),
    "copy_channel": Case({"from": "pic.R"}, {}, 1, "a channel by itself has no alpha"),
    "cross": Case({"a": "pic.R", "b": "pic.G"}, {"mode": "screen"}, 0.12, "a channel by itself has no alpha"),
    "arithmetic": Case({"from": ONE}, {"op": "add", "values": {"R": 0.1}}, 1e-5, NUMBERS),
    "weigh": Case({"from": ONE}, {}, 1e-05, NUMBERS),
    "invert": Case({"from": ONE}),
    "clamp": Case({"from": ONE}, {"high": 0.6}, 0.05, NUMBERS),
    "logic": Case({"mattes": [MATTE, "pic.A"]}, {"mode": "union"}, 1e-05),
    "attach_alpha": Case({"picture": ONE, "alpha": MATTE}, {"state": "straight"}, 0.02, "the alpha it had is given up"),
    "premultiply": Case({"picture": ONE}, stored="multiplies whatever it is given"),
    "unpremultiply": Case({"picture": ONE}, stored="divides whatever it is given"),
    "stack": Case({"under": "back", "over": ONE, "matte": MATTE}, {"mode": "multiply"}, 0.01),
    "formula": Case({"a": ONE}, {"expressions": {"Y": "a.r * 0.5 + a.g"}}, 1e-05, NUMBERS),
    "screen_pull": Case({"picture": ONE}, {"reference": [0.1, 0.7, 0.1]}, 0.1),
    "hue_pull": Case({"picture": ONE}, {"colour": [0.1, 0.7, 0.1], "tolerance": 0.05, "softness": 0.2}, 0.12),
    "luma_pull": Case({"picture": ONE}, {"low": 0.3, "high": 0.9, "low_softness": 0.2}, 0.3),
    "difference_pull": Case({"picture": ONE, "clean": "back"}, {"tolerance": 0.05, "softness": 0.3}, 0.17),
    "blur": Case({"from": ONE}, {"radius": 6}, 0.03),
    "place": Case({"picture": ONE}, {"x": 5.5, "y": -3.25, "rotate": 20, "scale": 1.2, "filter": "linear"}, 0.09),
    "sharpen": Case({"from": ONE, "matte": MATTE}, {"radius": 5, "amount": 0.8}, 0.05),
    "mirror": Case({"picture": ONE}, {"down": True}, 1e-5),
    "cut_window": Case({"picture": ONE}, {"x": 16, "y": 8, "width": 64, "height": 40}, 1e-5),
    "fit_to": Case({"picture": "pic", "like": "wide"}, {"how": "cover"}, 0.1, held=True),
    "clear_backing": Case(
        {"picture": ONE}, {"colour": [0.2, 0.1, 0]}, 1e-05, "told what is in the numbers, not the state"
    ),
    "edge_melt": Case({"picture": ONE}, {"width": 8, "radius": 3}, 0.06),
    "bleed": Case({"picture": ONE}, {"distance": 12}),
    "recover_colour": Case({"picture": "back", "matte": MATTE}),
    "grade": Case({"picture": ONE, "matte": MATTE}, {"exposure": 0.5, "saturation": 0.7, "offset": 0.1}, 0.005),
    "despill": Case({"picture": ONE}, {"screen": "green"}, 0.015),
    "ink_split": Case({"picture": ONE}, {}, 0.32),
    "ink_join": Case({"picture": "inks"}, {}, 1e-05, before=(INKS,)),
    "constant": Case({}, {"colour": [0.5], "width": 96, "height": 64}),
    "ramp": Case({}, {"start": [3, 5], "end": [80, 60], "width": 96, "height": 64}, 2e-3),
    "noise": Case({}, {"width": 96, "height": 64, "scale": 40, "octaves": 1}, 0.01),
    "stretch": Case({"from": ONE}, {"black": 0.1, "white": 0.8, "middle": 0.4}, 0.02),
    "threshold": Case({"from": MATTE}, {"level": 0.4, "softness": 0.3}, 0.18),
    "grow": Case({"matte": "pic.A", "picture": ONE}, {"distance": 8}, 0.36),
    "despeckle": Case({"matte": MATTE}, {"islands": 30, "holes": 30}, 0.02),
    "resize": Case({"from": ONE}, {"width": 48, "height": 32}, 1e-4, held=True),
    "bay": Case({"like": MATTE}, {"base": 0.3, "layers": [{"value": 0.8, "mask": MATTE}]}),
    "pack": Case({"r": MATTE, "g": "pic.A", "b": MATTE}),
    "touch_up": Case({"matte": MATTE}, {"strokes": [DAB]}, 0.02),
    "sum_passes": Case({"passes": ["back", "back"], "alpha_from": MATTE}),
    "residual": Case({"full": "back", "rebuilt": "other"}, {}, 0.08),
    "denoise": Case({"picture": ONE}, {"search": 2}, 0.1),
    "noise_residual": Case({"picture": "screen", "rebuilt": "back"}, {}, 0.5),
    "screen_plate": Case({"picture": "screen"}, {}, 0.02),
    "screen_solve": Case({"picture": "screen"}, {}, 0.02),
    "mark_solve": Case({"picture": "back", "keep": "rough", "drop": MATTE}, {"band": 3}),
    "fine_edge": Case({"picture": "back", "matte": "rough"}, {"band": 0}),
    "shape": Case({"like": MATTE}, {"paths": [SQUARE]}, 1e-05),
    "mip": Case({"from": ONE}, {"level": 2}, 1e-05, "shows what becomes of stored numbers"),
    "depth_range": Case({"depth": LEVELS}, {"near": 0.2, "far": 0.9}, 0.2),
    "depth_unit": Case({"depth": LEVELS}, {"near": 2.0, "far": 9.0}, 1e-3),
    "depth_edges": Case({"depth": LEVELS}, {"mend": "snap"}, 0.2),
    "depth_slice": Case({"depth": LEVELS, "coverage": "pic.A"}, {"near": 0.4, "far": 0.7, "feather_far": 0.2}, 0.3),
    "fog": Case(
        {"picture": ONE, "depth": LEVELS, "position": "back", "texture": "rough"},
        {"law": "linear", "start": 0.1, "end": 1.2, "noise": 0.5, "opacity": 0.9, "behind": "fog"},
        0.06,
    ),
    "position_from_depth": Case({"depth": LEVELS}, {"camera": "view"}, 0.02),
    "depth_from_position": Case({"position": "back"}, {"camera": "view"}, 0.05),
    "normals_from_position": Case({"position": "back"}, {}, 0.6),
    "space_matte": Case({"position": "back", "coverage": "pic.A"}, {"centre": [0.4, 0.5, 0.5], "size": [0.5] * 3}, 0.3),
    "id_pick": Case({"ids": MATTE, "coverage": "pic.A"}, {"pick": [1], "feather": 2}, 0.4),
    "relight": Case({"position": "back", "normals": "other", "albedo": ONE}, {"at": [0.5, 2, 0.5], "size": 2}, 0.2),
    # Its sums run in single precision, and where little was gathered they are divided by that little.
    "defocus": Case({"picture": ONE, "depth": "rough"}, {"focus": 0.7, "radius": 6}, 0.08, state=2e-3),
    "blocks": Case({"from": ONE}, stored="shows what becomes of stored numbers"),
}


def blocky(random: np.random.Generator, values: Sequence[float] | None = None) -> Plane:
    """Hard-edged rectangles, thin ones too, in values from 0 to 1."""
    plane = np.full(SIZE, random.random() if values is None else values[0], np.float32)
    for _ in range(14):
        x, y = random.integers(0, SIZE[1] - 4), random.integers(0, SIZE[0] - 4)
        width, height = random.choice([2, 5, 12, 30], 2)
        plane[y : y + height, x : x + width] = random.random() if values is None else random.choice(values)
    return plane


def hidden(random: np.random.Generator, kind: str) -> Plane:
    """What lies where alpha is 0."""
    return np.full(SIZE, {"black": 0, "white": 1, "huge": 1e6, "tiny": 1e-30}.get(kind, 0), np.float32) + (
        random.random(SIZE).astype(np.float32) if kind == "noise" else 0
    )


def sources(seed: int, kind: str, state: Alpha, *, opaque: bool = False) -> dict[str, MemorySource]:
    random = np.random.default_rng(seed)
    alpha = blocky(random, (1.0,) if opaque else (0.0, 1.0, 1.0, 0.5, 0.0))
    colour = {name: np.where(alpha > 0, blocky(random), hidden(random, kind)) for name in "RGB"}
    back, other = ({name: blocky(random) for name in "RGB"} for _ in range(2))
    mask = blocky(random, (0.0, 1.0, 0.5))
    rough = np.full(SIZE, 0.5, np.float32)
    rough[:20], rough[40:] = 0, 1
    if state is Alpha.PREMULTIPLIED:
        colour = {name: np.where(alpha > 0, plane * alpha, 0) for name, plane in colour.items()}
    return {
        "pic": MemorySource(colour | {"A": alpha}, alpha=state),
        "back": MemorySource(back),
        "other": MemorySource(other),
        "mask": MemorySource({"Y": mask}, data=["Y"]),
        "screen": MemorySource(before_screen(seed)),
        "wide": WIDE,
        "rough": MemorySource({"Y": rough}, data=["Y"]),
    }


def before_screen(seed: int) -> dict[str, Plane]:
    """Two bodies before a green screen, with noise."""
    random = np.random.default_rng(seed)
    planes = {name: np.full(SIZE, value, np.float32) for name, value in zip("RGB", (0.08, 0.4, 0.1), strict=True)}
    for name, value in zip("RGB", (0.5, 0.3, 0.35), strict=True):
        planes[name][20:56, 30:60] = value
        planes[name][8:18, 70:80] = 0.2 * value
        planes[name] += 0.004 * random.standard_normal(SIZE).astype(np.float32)
    return planes


def evaluated(op: str, given: Mapping[str, MemorySource], **options: Any) -> Picture:
    case = CASES[op]
    step = {"name": "result", "op": op, "in": dict(case.ports), "set": dict(case.set)}
    return run([*case.before, step], given, **options)


def as_light(picture: Picture) -> dict[str, Plane]:
    """Premultiplied light and data, by the definition: straight colour times alpha, nothing where there is no alpha."""
    description = picture.description
    result = dict(picture.planes)
    for name in description.colour:
        alpha = description.alpha_of(name)
        if alpha and description.alpha is Alpha.STRAIGHT:
            a = picture.planes[alpha]
            result[name] = np.where(a == 0, 0, picture.planes[name]) * a
    return result


def block_mean(plane: Plane, n: int) -> Plane:
    return plane.reshape(plane.shape[0] // n, n, plane.shape[1] // n, n).mean((1, 3), dtype=np.float64)


def proxy_gaps(op: str, seed: int, kind: str, state: Alpha) -> dict[str, float]:
    """How far each channel's proxies are from the reduced full result, in the mean."""
    # What has no alpha, or works on stored numbers, is compared where nothing lies hidden.
    opaque = bool(CASES[op].stored) or "A" not in evaluated(op, sources(seed, kind, state)).planes
    given_sources = sources(seed, kind, state, opaque=opaque)
    whole = evaluated(op, given_sources).description.display
    full = as_light(evaluated(op, given_sources, region=whole))
    gaps = {}
    for n in (2, 4, 8):
        scale = Fraction(1, n)
        small = as_light(evaluated(op, given_sources, region=whole.scaled(scale), scale=scale))
        for name, plane in small.items():
            gaps[f"{name} 1/{n}"] = float(np.abs(plane - block_mean(full[name], n)).mean())
    return gaps


seeds = st.integers(0, 10_000)
kinds = st.sampled_from(["black", "white", "noise", "huge", "tiny"])


class EveryOperation(CoreTest):
    def test_each_is_named_here(self) -> None:
        self.assertEqual(set(CASES), set(catalogue()))

    def test_straight_and_premultiplied_are_the_same_picture(self) -> None:
        for op, case in CASES.items():
            if case.stored:
                continue

            @examples(op)
            @given(op=st.just(op), seed=seeds, kind=kinds)
            def holds(op: str, seed: int, kind: str) -> None:
                given_sources = sources(seed, kind, Alpha.STRAIGHT)
                straight = as_light(evaluated(op, given_sources))
                multiplied = as_light(evaluated(op, sources(seed, kind, Alpha.PREMULTIPLIED)))
                self.assertEqual(set(straight), set(multiplied))
                # What a matte or inks hold where nothing covers says nothing of the picture.
                seen = np.ones(SIZE, bool) if "R" in straight else given_sources["pic"].planes["A"] > 0
                covers = seen if seen.shape == next(iter(straight.values())).shape else ...
                if CASES[op].held:
                    covers = straight["A"] > 1e-6
                    for name in "RGB":
                        self.assertLess(np.max(multiplied[name], initial=0, where=~covers), HELD_LIGHT)
                for name, plane in straight.items():
                    both = plane[covers], multiplied[name][covers]
                    np.testing.assert_allclose(*both, rtol=0, atol=CASES[op].state, err_msg=f"{op} {name}")

            with self.subTest(op=op):
                holds()

    def test_proxies_show_the_full_result(self) -> None:
        for op in CASES:

            @examples(op)
            @given(op=st.just(op), seed=seeds, kind=kinds, state=st.sampled_from([Alpha.STRAIGHT, Alpha.PREMULTIPLIED]))
            def holds(op: str, seed: int, kind: str, state: Alpha) -> None:
                case = CASES[op]
                for name, gap in proxy_gaps(op, seed, kind, state).items():
                    self.assertLessEqual(gap, case.proxy, f"{op} {name} {state} {kind} {seed}")

            with self.subTest(op=op):
                holds()

    def test_a_part_is_a_part_of_the_whole(self) -> None:
        for op in CASES:

            @examples(op)
            @given(
                op=st.just(op),
                seed=seeds,
                kind=kinds,
                scale=st.sampled_from([1, 2, 4]),
                x=st.integers(0, 60),
                y=st.integers(0, 40),
            )
            def holds(op: str, seed: int, kind: str, scale: int, x: int, y: int) -> None:
                given_sources = sources(seed, kind, Alpha.STRAIGHT)
                n = Fraction(1, scale)
                whole = evaluated(op, given_sources, scale=n)
                around = whole.region
                part = Window(around.x + x // scale, around.y + y // scale, 13, 7).intersect(around)
                if part.empty:
                    return
                got = evaluated(op, given_sources, scale=n, region=part)
                for name, plane in got.planes.items():
                    np.testing.assert_allclose(
                        plane, whole.planes[name][part.within(around)], rtol=1e-5, atol=1e-6, err_msg=f"{op} {name}"
                    )

            with self.subTest(op=op):
                holds()

    def test_a_part_is_a_part_of_the_whole_also_where_there_are_no_numbers(self) -> None:
        for op, value in itertools.product(CASES, (np.nan, np.inf, -np.inf)):
            given_sources = sources(1, "black", Alpha.STRAIGHT)
            for plane in [plane for source in given_sources.values() for plane in source.planes.values()]:
                if plane.shape == SIZE:
                    plane[10:40, 20:70] = value
            with self.subTest(op=op, value=value):
                whole = evaluated(op, given_sources)
                for x, y in ((0, 0), (24, 24), (55, 36)):
                    around = whole.region
                    part = Window(around.x + x, around.y + y, 13, 7).intersect(around)
                    if part.empty:
                        continue
                    for name, plane in evaluated(op, given_sources, region=part).planes.items():
                        there = whole.planes[name][part.within(around)]
                        np.testing.assert_allclose(plane, there, rtol=1e-5, atol=1e-6, err_msg=name)

    def test_endless_light_is_the_brightest_wherever_it_is_not_passed_on(self) -> None:
        """Of every operation: what comes of endless light and of no numbers is what comes of the brightest and of 0,
        but where they are passed on as they are."""
        # What averages passes them on to its surroundings.
        averaging = {"blur", "sharpen", "edge_melt"}
        for op in set(CASES) - averaging:
            found = []
            for bright, none in ((np.float32(65504), np.float32(0)), (np.float32(np.inf), np.float32(np.nan))):
                given_sources = sources(1, "black", Alpha.STRAIGHT)
                for source in given_sources.values():
                    for name, plane in source.planes.items():
                        if plane.shape == SIZE and name in "RGB":
                            plane[22:25, 32:40], plane[40:42, 50] = bright, none
                found.append(evaluated(op, given_sources))
            for name, plane in found[0].planes.items():
                with self.subTest(op=op, channel=name):
                    held = np.isfinite(found[1].planes[name])
                    np.testing.assert_allclose(found[1].planes[name][held], plane[held], rtol=1e-5, atol=1e-6)


class NoRim(CoreTest):
    """A constant colour under any alpha, over the same colour, stays that colour."""

    STEPS: Mapping[str, Sequence[Mapping[str, Any]]] = {
        "blur": [{"radius": 3}, {"radius": 7.3, "filter": "box"}, {"radius": 40}],
        "place": [
            {"x": 0.5, "y": 0.5},
            {"x": 3.3, "rotate": 33, "scale": 0.6},
            {"scale": 2.7, "filter": "linear"},
            {"scale": 0.31, "filter": "nearest"},
            {"movement": {"from": 1, "matrices": {"1": [0.9, 0.1, 3, -0.1, 0.8, 9, 0.002, 0.001, 1]}}},
        ],
        "edge_melt": [{"width": 8, "radius": 3}],
        "resize": [{"width": 50, "height": 70}, {"width": 200, "height": 31, "filter": "lanczos"}],
        "sharpen": [{"radius": 3, "amount": 2}],
        "mirror": [{"across": True}, {"down": True}],
        "cut_window": [{"x": 5, "y": 7, "width": 50, "height": 31}, {"x": -9, "width": 120, "cuts": "display"}],
        "fit_to": [{"how": "contain"}, {"how": "cover"}, {"how": "stretch"}, {"how": "centre"}],
    }

    @staticmethod
    def feeds(op: str) -> dict[str, str]:
        """What its ports are fed with: `pic`, and what else it needs."""
        ports = [port for port in catalogue()[op].ports if port.required]
        return {port.name: "wide" if port.name == "like" else "pic" for port in ports}

    def test_each_operation_that_mixes_is_named_here(self) -> None:
        mixing = {name for name, operation in catalogue().items() if isinstance(operation, MixingOperation)}
        self.assertEqual(mixing, set(self.STEPS))

    def over_itself(self, picture: Picture, colour: Mapping[str, float]) -> None:
        light = as_light(picture)
        for name, value in colour.items():
            over = light[name] + (1 - light["A"]) * value
            np.testing.assert_allclose(over, value, rtol=0, atol=2e-4 * max(1, value), err_msg=name)

    def test_under_an_alpha(self) -> None:
        colour = {"R": 1.0, "G": 0.3, "B": 7.0}

        @EXAMPLES
        @given(
            seed=seeds,
            kind=kinds,
            state=st.sampled_from([Alpha.STRAIGHT, Alpha.PREMULTIPLIED]),
            n=st.sampled_from([1, 2, 8]),
        )
        def holds(seed: int, kind: str, state: Alpha, n: int) -> None:
            random = np.random.default_rng(seed)
            alpha = blocky(random, (0.0, 1.0, 0.5, 0.0))
            under = hidden(random, kind) if state is Alpha.STRAIGHT else np.zeros(SIZE, np.float32)
            weight = alpha if state is Alpha.PREMULTIPLIED else np.ones(SIZE, np.float32)
            planes = {name: np.where(alpha > 0, value * weight, under) for name, value in colour.items()}
            source = MemorySource(planes | {"A": alpha}, alpha=state)
            for op, rows in self.STEPS.items():
                for row in rows:
                    with self.subTest(op=op, row=row):
                        step = {"name": "result", "op": op, "in": self.feeds(op), "set": dict(row)}
                        self.over_itself(run([step], {"pic": source, "wide": WIDE}, scale=Fraction(1, n)), colour)

        holds()

    def test_an_opaque_picture_moved_over_its_own_colour(self) -> None:
        colour = {"R": 0.8, "G": 0.2, "B": 0.5}
        source = MemorySource({name: np.full(SIZE, value, np.float32) for name, value in colour.items()})
        wide = Window(-40, -40, 180, 150)
        for op, rows in self.STEPS.items():
            if op == "edge_melt":
                continue
            for row in rows:
                with self.subTest(op=op, row=row):
                    steps = [
                        {"name": "moved", "op": op, "in": self.feeds(op), "set": dict(row)},
                        {"name": "flat", "op": "constant", "set": {"colour": list(colour.values())}},
                        {"name": "comp", "op": "stack", "in": {"under": "flat", "over": "moved"}},
                    ]
                    made = run(steps, {"pic": source, "wide": WIDE}, region=wide.intersect(Window(0, 0, 140, 110)))
                    for name, value in colour.items():
                        np.testing.assert_allclose(made.planes[name], value, atol=2e-5)


class HiddenAndHard(CoreTest):
    def test_a_hidden_number_that_is_none_stays_hidden(self) -> None:
        alpha = np.zeros((32, 32), np.float32)
        alpha[:, 16:] = 1
        for value in (np.nan, np.inf, -np.inf, 3e38):
            colour = np.where(alpha > 0, np.float32(0.5), np.float32(value))
            source = MemorySource({"R": colour, "G": colour, "B": colour, "A": alpha}, alpha=Alpha.STRAIGHT)
            for op, row in (("blur", {"radius": 3}), ("place", {"x": 0.5}), ("resize", {"width": 17, "height": 17})):
                port = "picture" if op == "place" else "from"
                made = run([{"name": "r", "op": op, "in": {port: "p"}, "set": row}], {"p": source})
                seen = np.abs(made.planes["A"]) > 1e-5
                np.testing.assert_allclose(made.planes["R"][seen], 0.5, atol=1e-4, err_msg=f"{op} {value}")

    def test_hidden_colour_of_any_size_stays_hidden_under_hardly_any_alpha(self) -> None:
        least = np.logspace(-12, -2, 96, dtype=np.float32)[None, :] * np.ones(SIZE, np.float32)
        alpha = np.where(np.arange(SIZE[0])[:, None] % 16 == 0, least, np.float32(0))
        for value in (0.7, 1e3, 1e6, 3e38):
            straight = {name: np.where(alpha > 0, np.float32(0.5), np.float32(value)) for name in "RGB"}
            multiplied = {name: alpha * np.float32(0.5) for name in "RGB"}
            for op, row in (("blur", {"radius": 3}), ("place", {"x": 0.5, "y": 0.3}), ("resize", {"width": 50})):
                port = "picture" if op == "place" else "from"
                step = {
                    "name": "r",
                    "op": op,
                    "in": {port: "p"},
                    "set": {"height": 40, **row} if "width" in row else row,
                }
                light = [
                    as_light(run([step], {"p": MemorySource(planes | {"A": alpha}, alpha=state)}))["R"]
                    for planes, state in ((straight, Alpha.STRAIGHT), (multiplied, Alpha.PREMULTIPLIED))
                ]
                np.testing.assert_allclose(*light, rtol=0, atol=2e-6, err_msg=f"{op} {value}")

    def test_moving_by_whole_pixels_is_exact_to_the_bit_also_where_nothing_covers(self) -> None:
        random = np.random.default_rng(5)
        planes = {name: random.random((20, 30)).astype(np.float32) for name in "RGB"}
        planes["A"] = (random.random((20, 30)) < 0.5).astype(np.float32) * np.float32(0.3)
        source = MemorySource(planes, alpha=Alpha.STRAIGHT)
        step = {"name": "r", "op": "place", "in": {"picture": "p"}, "set": {"x": 4, "y": -3}}
        made = run([step], {"p": source}, region=Window(4, -3, 30, 20))
        for name, plane in planes.items():
            np.testing.assert_array_equal(made.planes[name], plane, name)

    def test_depth_is_averaged_over_what_is_there(self) -> None:
        depth = np.full((24, 24), 4, np.float32)
        depth[:, 12:] = 1e10
        depth[5, 5] = np.nan
        source = MemorySource({"Z": depth}, data=["Z"], traits={"Z": Trait("depth")})
        for op, row in (
            ("blur", {"radius": 2}),
            ("place", {"x": 0.5, "rotate": 7}),
            ("resize", {"width": 13, "height": 13}),
        ):
            port = "picture" if op == "place" else "from"
            made = run([{"name": "r", "op": op, "in": {port: "p.Z"}, "set": row}], {"p": source})
            plane = made.planes["Y"]
            near = plane[np.isfinite(plane) & (plane > 0) & (plane < 1e9)]
            np.testing.assert_allclose(near, 4, atol=1e-4, err_msg=op)
            self.assertEqual(made.description.trait("Y").role, "depth")


class Labels(CoreTest):
    """Ids are never mixed and keep every digit up to 2**32, wherever they go."""

    IDS = np.array([[3, 1000, 2**24 + 1, 2**32 - 1], [0, 16_777_219, 5, 4_294_967_291]] * 8, np.float64).repeat(
        4, axis=1
    )

    def source(self) -> MemorySource:
        return MemorySource({"id.o": self.IDS}, data=["id.o"], traits={"id.o": Trait("id", "", "uint")})

    def test_through_everything_that_moves_or_hands_on(self) -> None:
        route = {"name": "routed", "op": "route", "in": {}, "set": {"to": {"id.again": {"from": "p.id.o"}}}}
        steps = [
            {"name": "r", "op": "blur", "in": {"from": "p"}, "set": {"radius": 3}},
            {"name": "r", "op": "place", "in": {"picture": "p"}, "set": {"x": 0.5, "y": 0.3, "rotate": 31}},
            {"name": "r", "op": "resize", "in": {"from": "p"}, "set": {"width": 9, "height": 9, "filter": "lanczos"}},
            {"name": "r", "op": "place", "in": {"picture": "routed"}, "set": {"scale": 1.7}},
            {
                "name": "r",
                "op": "touch_up",
                "in": {"matte": "p"},
                "set": {"strokes": [DAB | {"value": 9, "hardness": 0}]},
            },
        ]
        known = {*self.IDS.ravel().tolist(), 0.0, 9.0}
        for step in steps:
            for n in (1, 2, 4):
                with self.subTest(op=step["op"], n=n):
                    made = run([route, step], {"p": self.source()}, scale=Fraction(1, n))
                    (plane,) = made.planes.values()
                    self.assertEqual(plane.dtype, np.float64)
                    self.assertLessEqual({*plane.ravel().tolist()}, known)
                    self.assertTrue(made.description.labels)

    def test_what_is_computed_of_ids_is_a_number_like_any_other(self) -> None:
        step = {"name": "r", "op": "threshold", "in": {"from": "p.id.o"}, "set": {"level": 10}}
        made = run([step], {"p": self.source()})
        self.assertFalse(made.description.labels)
        self.assert_planes(made.planes["Y"], (self.IDS >= 10).astype(np.float32))


class Traits(CoreTest):
    """Each operation says what becomes of what a channel holds."""

    def made(self, steps: Sequence[Mapping[str, Any]]) -> Picture:
        depth = (3 + 20 * np.random.default_rng(1).random((16, 16))).astype(np.float32)
        trait = Trait("depth", "m", "float", lambda: (3.0, 23.0))
        source = MemorySource(
            {"R": depth, "G": depth, "B": depth, "Z": depth, "id.o": np.floor(depth)},
            data=["Z", "id.o"],
            traits={"Z": trait, "id.o": Trait("id")},
        )
        return run(steps, {"p": source})

    def test_by_hand(self) -> None:
        rows: list[tuple[dict[str, Any], str, str, tuple[float, float] | None]] = [
            ({"op": "blur", "in": {"from": "p.Z"}}, "depth", "m", (3, 23)),
            ({"op": "clamp", "in": {"from": "p.Z"}, "set": {"low": 5, "high": 50}}, "depth", "m", (5, 23)),
            ({"op": "invert", "in": {"from": "p.Z"}}, "depth", "", (-22, -2)),
            (
                {"op": "arithmetic", "in": {"from": "p.Z"}, "set": {"op": "multiply", "values": {"Y": 2}}},
                "depth",
                "",
                (6, 46),
            ),
            ({"op": "stretch", "in": {"from": "p.Z"}, "set": {"black": 3, "white": 23}}, "mask", "", None),
            ({"op": "route", "in": {}, "set": {"to": {"far": {"from": "p.Z"}}}}, "depth", "m", (3, 23)),
            (
                {"op": "arithmetic", "in": {"from": "p.id.o"}, "set": {"op": "add", "values": {"Y": 1}}},
                "mask",
                "",
                None,
            ),
        ]
        for step, role, unit, span in rows:
            with self.subTest(step=step):
                made = self.made([{"name": "r", **step}])
                trait = made.description.trait(made.description.channels[0])
                self.assertEqual((trait.role, trait.unit), (role, unit))
                if role == "depth":
                    self.assertEqual(trait.span(), span)

    def test_what_a_step_makes_is_known_before_it_is_computed(self) -> None:
        given_sources = sources(1, "black", Alpha.STRAIGHT)
        for op, case in CASES.items():
            with self.subTest(op=op):
                ports = {port: feed for port, feed in case.ports.items() if (op, port) != ("grow", "picture")}
                steps = [*case.before, {"name": "result", "op": op, "in": ports, "set": dict(case.set)}]
                made = run(steps, given_sources).description.is_plane
                # All that is fed here are pictures.
                expected = catalogue()[op].makes == "plane"
                # One number makes a plane of a constant; a new one has three.
                self.assertEqual(made, True if op == "constant" else expected)

    def test_every_operation_answers_for_every_channel(self) -> None:
        given_sources = sources(1, "black", Alpha.STRAIGHT)
        for op in CASES:
            with self.subTest(op=op):
                try:
                    made = evaluated(op, given_sources)
                except NexalError as error:  # pragma: no cover
                    self.fail(str(error))
                self.assertEqual(set(made.description.traits), set(made.description.channels))


if __name__ == "__main__":
    unittest.main()
