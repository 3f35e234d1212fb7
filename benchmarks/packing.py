"""A bay of a 2048 texture against a memory copy, the lit object still and dragged, blocks and proof."""

from typing import Any

import numpy as np

from benchmarks.edges import Planes
from benchmarks.measure import best, report
from nexal.analysis.lit import ObjectPose, Textures, lit
from nexal.analysis.proof import checked_target, proof
from nexal.engine import Engine, Plan
from nexal.picture import Plane
from nexal.recipe import parse_recipe

SIDE = 2048
BAYS = {"occlusion": 1.0, "roughness": 0.42, "metallic": 0.0}


def _disc() -> Plane:
    y, x = (np.mgrid[0:SIDE, 0:SIDE].astype(np.float32) + 0.5) / SIDE - 0.5
    return np.clip((0.3 - np.hypot(x, y)) * 60, 0, 1).astype(np.float32)


def _plan(readers: dict[str, Any], value: float) -> Plan:
    steps: list[dict[str, Any]] = [
        {
            "name": name,
            "op": "bay",
            "set": {"base": base, "layers": [{"from": "map.G", "opacity": 0.5}, {"value": value, "mask": "map.B"}]},
        }
        for name, base in BAYS.items()
    ]
    pack = {
        "name": "texture",
        "op": "pack",
        "in": dict(zip("rgb", BAYS, strict=True)),
        "set": {"meanings": {port: {"meaning": name} for port, name in zip("rgb", BAYS, strict=True)}},
    }
    preview = {"name": "in_blocks", "op": "blocks", "in": {"from": "texture"}}
    sources = {name: {"files": name} for name in readers}
    return Plan(parse_recipe({"nexal": 1, "sources": sources, "steps": [*steps, pack, preview]}), 1, readers)


def main() -> None:
    random = np.random.default_rng(5)
    noise = {name: random.random((SIDE, SIDE), np.float32) for name in "RG"}
    readers = {
        "map": Planes("map", noise | {"B": _disc()}, data=frozenset("RGB")),
        "paint": Planes("paint", noise | {"B": noise["R"]}, data=frozenset()),
    }
    engine = Engine(threads=2)
    plan = _plan(readers, 0.9)
    textures = Textures(plan.feed("paint"), plan.feed("texture"))
    turn = iter(range(1, 100_000))
    copied = np.stack([noise["R"]])

    def bay() -> None:
        changed = _plan(readers, next(turn) / 1e6)
        Engine(cache_bytes=1 << 20, threads=2).evaluate(changed.feed("roughness"), changed)

    def dragged() -> None:
        lit(engine, plan, textures, ObjectPose(turn=(next(turn) * 3.0, 8.0), size=320))

    def changed_bay() -> None:
        other = _plan(readers, next(turn) / 1e6)
        lit(engine, other, Textures(other.feed("paint"), other.feed("texture")), ObjectPose())

    seconds = best(
        {
            "copy": lambda: copied.copy(),
            "bay": bay,
            "still": lambda: lit(engine, plan, textures, ObjectPose()),
            "turned": lambda: lit(engine, plan, textures, ObjectPose(turn=(next(turn) * 3.0, 8.0))),
            "dragged": dragged,
            "changed": changed_bay,
            "proof": lambda: proof(engine, plan, plan.feed("texture"), checked_target(plan.feed("texture"), {})),
            "blocks": lambda: Engine(threads=2).evaluate(plan.feed("in_blocks"), plan),
        },
        rounds=7,
    )
    copy = seconds["copy"]
    report(
        f"packing, {SIDE} x {SIDE}",
        [
            f"a bay of two bars: {seconds['bay'] / copy:.1f} memory copies of its plane",
            f"lit object, 640 x 640: {seconds['still'] / copy:.0f}; here {seconds['still'] * 1e3:.0f} ms (aim 150 ms)",
            f"turned anew: here {seconds['turned'] * 1e3:.0f} ms",
            f"after a change of all bays: here {seconds['changed'] * 1e3:.0f} ms",
            f"half of that size while it is dragged: here {seconds['dragged'] * 1e3:.0f} ms (aim 40 ms)",
            f"proof of three channels in 8 bit: {seconds['proof'] / copy:.0f}; here {seconds['proof']:.2f} s",
            f"blocks: {seconds['blocks'] / copy:.0f}; here {seconds['blocks']:.2f} s",
        ],
    )
