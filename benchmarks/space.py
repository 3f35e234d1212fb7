"""Defocus against a Gaussian, operations by depth and position against memory copies, and what is told of a depth."""

from __future__ import annotations

import resource
import time
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from benchmarks.edges import Planes
from benchmarks.measure import best, report
from nexal.analysis.depth import depth_report
from nexal.analysis.elevation import elevation
from nexal.engine import Engine, Plan
from nexal.hashed_ids import bits_of, number_of
from nexal.kernels.defocusing import defocused
from nexal.kernels.iris import Iris
from nexal.picture import Description, Plane, Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 1920, 1080
# What a Gaussian of sigma 10 takes of processor time is compared: both use all cores.
SIGMA = 10


def _scene(width: int, height: int) -> dict[str, Plane]:
    """A ground that goes away, things that stand on it, and their positions and normals."""
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    depth = 1.6 * height / np.maximum(y - 0.3 * height, 0.16 * height)
    for index in range(24):
        left, top = (index * 0.618 % 1) * width, (0.2 + 0.6 * (index * 0.414 % 1)) * height
        thing = (np.abs(x - left) < 0.03 * width) & (np.abs(y - top) < 0.1 * height)
        depth = np.where(thing, 2.0 + 7 * (index * 0.732 % 1), depth)
    place = {"X": (x - width / 2) * depth / width, "Y": (height / 2 - y) * depth / width, "Z": depth}
    random = np.random.default_rng(1)
    rough = cv2.GaussianBlur(random.random((height, width), np.float32), (0, 0), 3)
    facing = {"X": rough - 0.5, "Y": np.full_like(depth, 0.8), "Z": np.full_like(depth, -0.6)}
    made = {"depth": depth} | {f"p{axis}": plane for axis, plane in place.items()}
    made |= {f"n{axis}": plane for axis, plane in facing.items()}
    made |= {name: np.clip(rough * tone * 2, 0, 1) for name, tone in zip("RGB", (0.5, 0.4, 0.3), strict=True)}
    return {name: np.ascontiguousarray(plane, np.float32) for name, plane in made.items()}


def _first_sight(scene: dict[str, Plane]) -> list[str]:
    """What a defocus takes that was changed: of the processor at the scale of a view, of memory at full size."""
    sources = {
        "pic": Planes("pic", {name: scene[name] for name in "RGB"}),
        "deep": Planes("deep", {"Z": scene["depth"]}, data=frozenset("Z")),
    }
    step = {"name": "d", "op": "defocus", "in": {"picture": "pic", "depth": "deep.Z"}, "set": {"radius": 60.0}}
    recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": name} for name in sources}, "steps": [step]})
    plan = Plan(recipe, 1, sources)

    def seen(scale: Fraction) -> float:
        begun = time.perf_counter()
        Engine().evaluate(plan.feed("d"), plan, scale=scale)
        return time.perf_counter() - begun

    small = min(seen(Fraction(1, 2)) for _ in range(5))
    # What is touched counts, not what is only asked for.
    Path("/proc/self/clear_refs").write_text("5")
    before = _held("VmRSS")
    seen(Fraction(1))
    peak = _held("VmHWM") - before
    return [
        f"defocus, radius 60, seen at half size: {1000 * small:.0f} ms",
        f"defocus, radius 60: {peak / 1e6:.0f} MB at most",
    ]


def _held(what: str) -> int:
    """Bytes of memory that the process holds (VmRSS), or has held at most (VmHWM)."""
    rows = Path("/proc/self/status").read_text().splitlines()
    return 1024 * int(next(row for row in rows if row.startswith(what)).split()[1])


def _processor(work: Any) -> float:
    """Seconds of processor time, the least of five."""

    def used() -> float:
        found = resource.getrusage(resource.RUSAGE_SELF)
        return found.ru_utime + found.ru_stime

    work()
    seconds = []
    for _ in range(5):
        before = used()
        work()
        seconds.append(used() - before)
    return min(seconds)


def main() -> None:
    scene = _scene(WIDTH, HEIGHT)
    rgba = [scene[name] for name in "RGB"] + [np.ones_like(scene["R"])]
    joined = np.ascontiguousarray(np.stack(rgba, axis=-1))
    gaussian = _processor(lambda: cv2.GaussianBlur(joined, (0, 0), SIGMA))
    lines = []
    for radius in (10, 30, 60):
        circles = np.clip(radius * (1 - 5 / scene["depth"]), -radius, radius).astype(np.float32)
        took = _processor(lambda c=circles, r=radius: defocused(rgba, c, r * 1.001, 0, Iris(), opaque=True))
        lines.append(f"defocus, radius {radius}: {took / gaussian:.2f} of a Gaussian of sigma {SIGMA} (processor time)")
    lines += _first_sight(scene)

    random = np.random.default_rng(2)
    sources: dict[str, Planes] = {
        "pic": Planes("pic", {name: scene[name] for name in "RGB"}),
        "deep": Planes("deep", {"Z": scene["depth"]}, data=frozenset("Z")),
        "where": Planes("where", {axis: scene[f"p{axis}"] for axis in "XYZ"}, data=frozenset("XYZ")),
        "facing": Planes("facing", {axis: scene[f"n{axis}"] for axis in "XYZ"}, data=frozenset("XYZ")),
    }
    numbers = np.array([number_of(bits_of(f"pod {index}")) for index in range(60)], np.float32)
    ranks = {}
    for rank in range(6):
        head, (number, share) = f"pods{rank // 2:02d}", ("RG", "BA")[rank % 2]
        ranks[f"{head}.{number}"] = numbers[random.integers(0, 60, (HEIGHT, WIDTH))]
        ranks[f"{head}.{share}"] = np.full((HEIGHT, WIDTH), 1 / 6, np.float32)
    sources["ids"] = Planes("ids", ranks, data=frozenset(ranks))
    steps = {
        "depth_slice": ({"depth": "deep.Z"}, {"near": 3, "far": 6}, 2),
        "fog": ({"picture": "pic", "depth": "deep.Z"}, {"law": "linear"}, 7),
        "space_matte": ({"position": "where"}, {"size": [2, 2, 2]}, 4),
        "relight": ({"position": "where", "normals": "facing"}, {}, 9),
        "id_pick": ({"ids": "ids"}, {"pick": [f"pod {index}" for index in range(10)]}, 13),
        "clouds": (
            {"picture": "pic", "depth": "deep.Z", "position": "where"},
            {"noise": 0.7, "noise_scale": 0.5},
            10,
        ),
    }
    recipe = parse_recipe(
        {
            "nexal": 1,
            "sources": {name: {} for name in sources},
            "steps": [
                {"name": f"s_{name}", "op": "fog" if name == "clouds" else name, "in": ports, "set": settings}
                for name, (ports, settings, _) in steps.items()
            ],
        }
    )
    plan = Plan(recipe, 1, sources)
    works: dict[str, Any] = {name: lambda name=name: Engine().evaluate(plan.feed(f"s_{name}"), plan) for name in steps}
    for name, (_, _, planes) in steps.items():
        held = np.stack([scene["depth"]] * planes)
        works[f"copy {name}"] = lambda held=held: held.copy()
    works["gaussian"] = lambda: cv2.GaussianBlur(joined, (0, 0), SIGMA)
    seconds = best(works, rounds=3)
    for name in steps:
        ratio = seconds[name] / seconds[f"copy {name}"]
        lines.append(f"{name}: {ratio:.1f} copies of its planes, {seconds[name] / seconds['gaussian']:.2f} Gaussians, "
                     f"{seconds[name] * 1000:.0f} ms")  # fmt: skip

    large = _scene(4096, 2160)
    window = Window(0, 0, 4096, 2160)
    described = Description(("Z",), window, window)
    deep = {"deep": Planes("large", {"Z": large["depth"]}, data=frozenset("Z"))}
    told = Plan(parse_recipe({"nexal": 1, "sources": {"deep": {}}}), 1, deep)
    engine = Engine()
    position = [large[f"p{axis}"] for axis in "XYZ"]
    seconds = best(
        {
            "elevation": lambda: elevation(engine, told, told.feed("deep.Z"), columns=640, rows=132),
            "report": lambda: depth_report("Z", large["depth"], position, described),
            "report without positions": lambda: depth_report("Z", large["depth"], None, described),
        },
        rounds=3,
    )
    lines += [f"{name} of a 4096 x 2160 depth: {took * 1000:.0f} ms" for name, took in seconds.items()]
    report(f"space, {WIDTH} x {HEIGHT}", lines)


if __name__ == "__main__":
    main()
