"""The lit object: its shading against an independent integrator, its picture against what a texture says."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient
from numpy.typing import NDArray

from nexal.analysis.lit import SURROUNDINGS, ObjectPose, Textures, lights_of, lit, meanings_of
from nexal.engine import Engine, Plan
from nexal.kernels.meshes import OBJECTS, mesh
from nexal.kernels.rasterising import DISTANCE, Surface, rasterise
from nexal.kernels.shading import COAT_ROUGHNESS, AreaLight, Material, Surroundings, shade
from nexal.kernels.wrapping import bent
from nexal.recipe import parse_recipe

Vector = NDArray[np.float64]


def unit(*parts: float) -> Vector:
    return np.asarray(parts) / np.linalg.norm(parts)


def brdf(n: Vector, v: Vector, to_light: Vector, base: float, rough: float, metal: float) -> Vector:
    """The model of glTF 2.0, appendix B, written out again: `l` is N x 3; without the cosine of the light."""
    alpha = rough * rough
    h = to_light + v
    h = h / np.linalg.norm(h, axis=1, keepdims=True)
    nh, nl, nv, vh = h @ n, to_light @ n, float(n @ v), h @ v
    d = alpha**2 / (np.pi * (nh**2 * (alpha**2 - 1) + 1) ** 2)
    g = 2 * nl / (nl + np.sqrt(alpha**2 + (1 - alpha**2) * nl**2))
    g_v = 2 * nv / (nv + np.sqrt(alpha**2 + (1 - alpha**2) * nv**2))
    # Height-correlated Smith from the two separate ones: 1 / (1 / g + 1 / g_v - 1).
    specular = d / (1 / g + 1 / g_v - 1) / (4 * nl * nv)
    f0 = 0.04 * (1 - metal) + base * metal
    fresnel = f0 + (1 - f0) * (1 - vh) ** 5
    return (1 - fresnel) * base * (1 - metal) / np.pi + fresnel * specular


def coat_brdf(n: Vector, v: Vector, to_light: Vector) -> Vector:
    """The clear coat's lobe without its Fresnel term: the model above as a mirror of reflectance 1."""
    return brdf(n, v, to_light, 1.0, COAT_ROUGHNESS, 1.0)


def hemisphere(n: Vector, rings: int = 700, around: int = 1400) -> tuple[Vector, Vector]:
    """Directions about n and the solid angle that each stands for; finer towards the pole's mirror does not matter."""
    cosine = (np.arange(rings) + 0.5) / rings
    turn = (np.arange(around) + 0.5) / around * 2 * np.pi
    c, t = np.meshgrid(cosine, turn)
    s = np.sqrt(1 - c**2)
    side = unit(*np.cross(n, [0.3, 0.9, 0.1]))
    other = np.cross(n, side)
    directions = (
        c.ravel()[:, None] * n + (s * np.cos(t)).ravel()[:, None] * side + (s * np.sin(t)).ravel()[:, None] * other
    )
    return directions, np.full(directions.shape[0], 2 * np.pi / (rings * around))


def point(position: tuple[float, float, float], n: Vector) -> Surface:
    place, normal, along = (np.asarray([each], np.float32) for each in (position, n, (1, 0, 0)))
    return Surface(1, np.zeros(1, np.int64), np.ones(1, np.float32), place, normal, along, np.zeros((1, 2), np.float32))


def material(base: float, rough: float, metal: float, *, occlusion: float = 1.0, coat: float = 0.0) -> Material:
    flat = [np.full(1, value, np.float32) for value in (base, rough, metal, occlusion, coat)]
    return Material([flat[0]] * 3, *flat[1:])


NOTHING = Surroundings((0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
POINTS = (
    ((0.0, 0.0, 0.0), unit(0.1, 0.2, 1.0)),
    ((0.4, 0.3, 0.5), unit(0.6, 0.5, 0.7)),
    ((-0.5, -0.2, 0.3), unit(-0.7, -0.3, 0.5)),
)


class Shading(CoreTest):
    def eye(self, position: tuple[float, float, float]) -> Vector:
        return unit(*(np.array([0, 0, DISTANCE]) - position))

    def assert_close(self, got: float, wanted: float, share: float, message: Any = "") -> None:
        self.assertLess(abs(got - wanted), share * abs(wanted) + 2e-3, f"{message}: {got} for {wanted}")

    def test_surroundings_are_the_integral_over_all_directions(self) -> None:
        around = Surroundings((0.3, 0.3, 0.3), (0.25, 0.25, 0.25))
        for position, n in POINTS:
            v = self.eye(position)
            to_light, solid = hemisphere(n)
            light = (0.3 + 0.25 * to_light[:, 1]) * (to_light @ n) * solid
            for base, rough, metal in ((0.7, 0.9, 0.0), (0.3, 0.4, 0.0), (0.8, 0.5, 1.0), (0.6, 0.3, 0.5)):
                wanted = float((brdf(n, v, to_light, base, rough, metal) * light).sum())
                seen = point(position, n)
                got = float(shade(seen, seen.normals, material(base, rough, metal), [], around)[0, 0])
                self.assert_close(got, wanted, 0.015, (position, base, rough, metal))

    def test_an_area_light_is_the_integral_over_its_rectangle(self) -> None:
        lamp = AreaLight((-1.8, 1.6, 3.2), 1.1, 2.6, (5.0, 5.0, 5.0), 2, 4)
        at = np.asarray(lamp.position)
        facing = unit(*-at)
        right = unit(*np.cross([0, 1, 0], facing))
        above = np.cross(facing, right)
        count = 240
        steps = (np.arange(count) + 0.5) / count - 0.5
        x, y = (each.ravel()[:, None] for each in np.meshgrid(steps * lamp.width, steps * lamp.height))
        places = at + right * x + above * y
        area = lamp.width * lamp.height / count**2
        for position, n in POINTS:
            v = self.eye(position)
            way = places - position
            square = (way**2).sum(axis=1)
            to_light = way / np.sqrt(square)[:, None]
            nl = to_light @ n
            if nl.min() <= 0.05:
                continue
            power = 5.0 * nl * (-(to_light @ facing)).clip(0) * area / square
            for base, rough, metal in ((0.7, 0.9, 0.0), (0.5, 0.5, 0.0), (0.8, 0.6, 1.0), (0.8, 0.4, 1.0)):
                wanted = float((brdf(n, v, to_light, base, rough, metal) * power).sum())
                seen = point(position, n)
                got = float(shade(seen, seen.normals, material(base, rough, metal), [lamp], NOTHING)[0, 0])
                self.assert_close(got, wanted, 0.06, (position, base, rough, metal))

    def test_a_coat_lies_over_all_by_its_own_reflectance(self) -> None:
        around = Surroundings((0.4, 0.4, 0.4), (0.2, 0.2, 0.2))
        position, n = POINTS[1]
        v = self.eye(position)
        to_light, solid = hemisphere(n, 2400, 2400)
        light = (0.4 + 0.2 * to_light[:, 1]) * (to_light @ n) * solid
        share = 0.8 * (0.04 + 0.96 * (1 - float(n @ v)) ** 5)
        under = float((brdf(n, v, to_light, 0.5, 0.6, 0.0) * light).sum())
        over = float((coat_brdf(n, v, to_light) * light).sum())
        seen = point(position, n)
        got = float(shade(seen, seen.normals, material(0.5, 0.6, 0.0, coat=0.8), [], around)[0, 0])
        self.assert_close(got, under * (1 - share) + over * share, 0.015)

    def test_what_is_lit_evenly_gives_no_more_light_than_it_gets(self) -> None:
        even = Surroundings((1.0, 1.0, 1.0), (0.0, 0.0, 0.0))
        for rough in (0.05, 0.3, 0.7, 1.0):
            for metal in (0.0, 1.0):
                for _, n in POINTS:
                    seen = point((0.0, 0.0, 0.0), n)
                    got = float(shade(seen, seen.normals, material(1.0, rough, metal), [], even)[0, 0])
                    self.assertLessEqual(got, 1.02)
                    self.assertGreater(got, 0.3)

    def test_occlusion_keeps_the_surroundings_away_and_no_lamp(self) -> None:
        around = Surroundings((0.4, 0.4, 0.4), (0.1, 0.1, 0.1))
        lamp = AreaLight((0.0, 1.0, 4.0), 1.0, 1.0, (5.0, 5.0, 5.0), 1, 1)
        seen = point(*POINTS[0])
        lamp_alone = shade(seen, seen.normals, material(0.5, 0.5, 0.0), [lamp], NOTHING)
        dark = shade(seen, seen.normals, material(0.5, 0.5, 0.0, occlusion=0.0), [lamp], around)
        np.testing.assert_allclose(dark, lamp_alone, rtol=1e-5)


class Seeing(CoreTest):
    def test_every_object_faces_the_eye_with_unit_normals_and_its_texture_upright(self) -> None:
        for name in OBJECTS:
            with self.subTest(name):
                seen = rasterise(mesh(name), 0.0, 0.0, 128)
                self.assertGreater(seen.places.size, 128 * 128 / 5)
                np.testing.assert_allclose(np.linalg.norm(seen.normals, axis=1), 1, atol=1e-4)
                eye = np.array([0, 0, DISTANCE]) - seen.positions
                self.assertGreater(float((eye * seen.normals).sum(axis=1).min()), -0.3)
                middle = int(np.argmin(np.abs(seen.places - (64 * 128 + 64))))
                np.testing.assert_allclose(seen.uvs[middle], [0.5, 0.5], atol=0.03)
                rows = seen.places // 128
                upper, lower = seen.uvs[rows < 44, 1], seen.uvs[rows > 84, 1]
                self.assertLess(float(np.median(upper)), float(np.median(lower)))

    def test_turning_moves_what_is_seen_sideways(self) -> None:
        before, after = (rasterise(mesh("tin"), yaw, 0.0, 96) for yaw in (0.0, 0.3))
        middle = [int(np.argmin(np.abs(seen.places - (48 * 96 + 48)))) for seen in (before, after)]
        # A point that was left of the middle has come there: u is 0.3 turns of half the circumference less.
        gap = before.uvs[middle[0], 0] - after.uvs[middle[1], 0]
        self.assertAlmostEqual(float(gap), 0.3 / np.pi, 1)

    def test_flat_normal_maps_change_nothing_and_bent_ones_tilt(self) -> None:
        seen = rasterise(mesh("panel"), 0.0, 0.0, 64)
        flat = [np.full((4, 4), value, np.float32) for value in (0.5, 0.5, 1.0)]
        np.testing.assert_allclose(bent(seen, flat), seen.normals, atol=1e-5)
        right = [np.full((4, 4), value, np.float32) for value in (0.5 + 0.5 * 0.6, 0.5, 0.5 + 0.5 * 0.8)]
        np.testing.assert_allclose(bent(seen, right)[0], [0.6, 0.0, 0.8], atol=1e-4)

    def plan(self, metallic: float = 0.0, roughness: float = 0.5, gloss: bool = False) -> Plan:
        steps: list[dict[str, Any]] = [
            {"name": name, "op": "bay", "set": {"base": value, "width": 64, "height": 64}}
            for name, value in (("occlusion", 1.0), ("rough", roughness), ("metal", metallic))
        ]
        meanings = {
            "r": {"meaning": "occlusion"},
            "g": {"meaning": "roughness", "inverted": gloss},
            "b": {"meaning": "metallic"},
        }
        steps.append(
            {
                "name": "texture",
                "op": "pack",
                "in": {"r": "occlusion", "g": "rough", "b": "metal"},
                "set": {"meanings": meanings},
            }
        )
        steps.append({"name": "small", "op": "mip", "in": {"from": "texture"}})
        base = MemorySource({name: gradient(64, 64, 3) * 0.2 + 0.5 for name in "RGB"})
        recipe = parse_recipe({"nexal": 1, "sources": {"base": {"files": "base"}}, "steps": steps})
        return Plan(recipe, 1, {"base": base})

    def picture(self, plan: Plan, texture: str | None = "texture", **standing: Any) -> Any:
        textures = Textures(plan.feed("base"), plan.feed(texture) if texture else None)
        shown = lit(Engine(threads=2), plan, textures, replace(ObjectPose(size=96), **standing))
        self.assertTrue(shown.finished)
        return np.stack([shown.picture.planes[name] for name in "RGB"])

    def test_a_changed_value_is_seen_at_once_and_only_on_the_object(self) -> None:
        enamel, brass = self.picture(self.plan()), self.picture(self.plan(metallic=1.0, roughness=0.25))
        self.assertEqual(enamel.shape, (3, 96, 96))
        self.assertGreater(float(np.abs(enamel - brass)[:, 48, 48].max()), 0.05)
        np.testing.assert_array_equal(enamel[:, 0, 0], brass[:, 0, 0])

    def test_gloss_is_roughness_turned_round(self) -> None:
        plan = self.plan(roughness=0.3)
        meanings = meanings_of(plan.feed("texture"))
        self.assertEqual({name: each.meaning for name, each in meanings.items()}["G"], "roughness")
        rough, glossy = self.picture(plan), self.picture(self.plan(roughness=0.7, gloss=True))
        np.testing.assert_allclose(glossy, rough, atol=2e-3)

    def test_previews_of_a_texture_mean_what_it_means(self) -> None:
        plan = self.plan(metallic=1.0)
        self.assertEqual(meanings_of(plan.feed("small")), meanings_of(plan.feed("texture")))
        np.testing.assert_allclose(self.picture(plan, "small"), self.picture(plan), atol=2e-3)

    def test_a_normal_map_means_its_numbers_however_it_is_read(self) -> None:
        plan = self.plan()
        codes = {name: np.full((64, 64), value, np.float32) for name, value in zip("RGB", (0.7, 0.4, 0.9), strict=True)}
        linear = {name: ((plane + 0.055) / 1.055) ** 2.4 for name, plane in codes.items()}
        seen = []
        for planes, data in ((codes, "RGB"), (linear, "")):
            source = MemorySource(planes, data=list(data))
            read = Plan(
                plan.recipe.model_copy(
                    update={"sources": plan.recipe.sources | {"bumps": plan.recipe.sources["base"]}}
                ),
                1,
                dict(plan.readers) | {"bumps": source},
            )
            textures = Textures(read.feed("base"), read.feed("texture"), read.feed("bumps"))
            shown = lit(Engine(threads=2), read, textures, ObjectPose(size=96))
            seen.append(np.stack([shown.picture.planes[name] for name in "RGB"]))
        np.testing.assert_allclose(seen[0], seen[1], atol=2e-3)
        self.assertGreater(float(np.abs(seen[0] - self.picture(plan)).max()), 0.02)

    def test_lights_go_where_they_are_dragged(self) -> None:
        plan = self.plan()
        left, right = (self.picture(plan, key=(side * 0.8, 0.0), fill=(0.0, 0.0), object="sphere") for side in (-1, 1))
        self.assertGreater(float(left[:, 48, 20].sum()), float(left[:, 48, 76].sum()) + 0.3)
        self.assertGreater(float(right[:, 48, 76].sum()), float(right[:, 48, 20].sum()) + 0.3)
        self.assertEqual(len(lights_of(ObjectPose())), 2)
        self.assertGreater(SURROUNDINGS.rise[0], 0)

    def test_what_cannot_be_a_base_colour_is_refused(self) -> None:
        plan = self.plan()
        self.assert_refused(
            lambda: lit(Engine(threads=2), plan, Textures(plan.feed("rough")), ObjectPose(size=64)),
            "base colour",
            "rough",
        )


if __name__ == "__main__":
    unittest.main()
