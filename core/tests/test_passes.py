"""Passes added up again, compared, and audited: against sums written out by hand and sets known beforehand."""

from __future__ import annotations

import json
import unittest
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, run, write_exr
from test_scout import command

from nexal.analysis.advice import advise
from nexal.analysis.audit import WHOLE, audit, beside, colour_layers, steps_of
from nexal.analysis.sum_checks import check_sum
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Plane
from nexal.recipe import parse_recipe

Layers = dict[str, dict[str, Plane]]


def pool(seed: int, size: tuple[int, int] = (96, 64), strength: float = 1.0) -> dict[str, Plane]:
    """A pool of coloured light on black, as half floats hold it."""
    random = np.random.default_rng(seed)
    width, height = size
    y, x = np.mgrid[0:height, 0:width]
    cx, cy = random.uniform(0.2, 0.8, 2) * (width, height)
    bright = np.exp(-(((x - cx) / width * 3) ** 2) - ((y - cy) / height * 3) ** 2) + 0.02 * random.random(
        (height, width)
    )
    tint = random.uniform(0.3, 1.0, 3) * strength
    return {name: (bright * tint[i]).astype(np.float16).astype(np.float32) for i, name in enumerate("RGB")}


def summed(*layers: dict[str, Plane]) -> dict[str, Plane]:
    return {
        name: sum(layer[name].astype(np.float64) for layer in layers).astype(np.float16).astype(np.float32)
        for name in "RGB"
    }


def render(full: dict[str, Plane], layers: Layers, **data: Plane) -> MemorySource:
    planes = dict(full)
    for layer, channels in layers.items():
        planes |= {f"{layer}.{name}": plane for name, plane in channels.items()}
    return MemorySource(planes | data, data=tuple(data))


class Sum(CoreTest):
    def setUp(self) -> None:
        self.sources = {"a": MemorySource(rgb(seed=1)), "b": MemorySource(rgb(seed=2)), "c": MemorySource(rgb(seed=3))}

    def add(self, passes: list[dict[str, Any]], **more: Any) -> dict[str, Plane]:
        ports = {"passes": ["a", "b", "c"]} | more
        return dict(one("sum_passes", ports, self.sources, passes=passes).planes)

    def plane(self, item: str, name: str) -> np.ndarray:
        return self.sources[item].planes[name].astype(np.float64)

    def test_plain_sum(self) -> None:
        got = self.add([])
        self.assertEqual(list(got), ["R", "G", "B"])
        for name in "RGB":
            self.assert_planes(got[name], sum(self.plane(item, name) for item in "abc"), 1e-6)

    def test_stops_are_exact_powers_of_two(self) -> None:
        got = self.add([{"stops": 3}, {"mute": True}, {"mute": True}])
        np.testing.assert_array_equal(got["G"], self.sources["a"].planes["G"] * np.float32(8))
        got = self.add([{"mute": True}, {"stops": -2}, {"mute": True}])
        np.testing.assert_array_equal(got["G"], self.sources["b"].planes["G"] / np.float32(4))

    def test_tint_mute_and_solo(self) -> None:
        got = self.add([{"tint": [2, 1, 0.5]}, {"mute": True}])
        for name, tint in zip("RGB", (2, 1, 0.5), strict=True):
            self.assert_planes(got[name], tint * self.plane("a", name) + self.plane("c", name), 1e-6)
        got = self.add([{}, {"solo": True, "mute": True, "stops": 1}, {}])
        self.assert_planes(got["R"], 2 * self.plane("b", "R"), 1e-6)

    def test_lighting_times_colour(self) -> None:
        got = self.add([{"times": "c"}, {"mute": True}, {"mute": True}])
        self.assert_planes(got["B"], self.plane("a", "B") * self.plane("c", "B"), 1e-6)
        grey = self.add([{"times": "c.G"}, {"mute": True}, {"mute": True}])
        self.assert_planes(grey["B"], self.plane("a", "B") * self.plane("c", "G"), 1e-6)

    def test_the_alpha_comes_from_one_named_place_only(self) -> None:
        soft = gradient(seed=8)
        passes = {
            name: MemorySource(rgb(seed=i) | {"A": gradient(seed=20 + i)}, alpha=Alpha.PREMULTIPLIED)
            for i, name in enumerate("ab")
        }
        sources = passes | {"full": MemorySource(rgb(seed=9) | {"A": soft}, alpha=Alpha.PREMULTIPLIED)}
        open_sum = one("sum_passes", {"passes": ["a", "b"]}, sources)
        self.assertEqual((list(open_sum.planes), open_sum.description.alpha), (["R", "G", "B"], Alpha.NONE))
        closed = one("sum_passes", {"passes": ["a", "b"], "alpha_from": "full"}, sources)
        self.assertEqual(closed.description.alpha, Alpha.PREMULTIPLIED)
        self.assert_planes(closed.planes["A"], soft, 0)
        both = passes["a"].planes["R"].astype(np.float64) + passes["b"].planes["R"]
        self.assert_planes(closed.planes["R"], both, 1e-6)

    def test_edges_of_the_closed_sum_are_right_over_any_colour(self) -> None:
        """Premultiplied light added up and closed once lies over every colour as the full picture does."""
        alpha = np.clip(gradient(seed=5) * 1.6 - 0.3, 0, 1)
        colour = rgb(seed=6)
        full = {name: plane * alpha for name, plane in colour.items()}
        parts = [{name: plane * share for name, plane in full.items()} for share in (0.25, 0.75)]
        sources = {
            "full": MemorySource(full | {"A": alpha}, alpha=Alpha.PREMULTIPLIED),
            "k": MemorySource(parts[0] | {"A": alpha}, alpha=Alpha.PREMULTIPLIED),
            "f": MemorySource(parts[1] | {"A": alpha}, alpha=Alpha.PREMULTIPLIED),
        }
        for backdrop in ([0, 0, 0], [1, 1, 1], [0.9, 0.1, 0.4]):
            steps = [
                {"name": "sum", "op": "sum_passes", "in": {"passes": ["k", "f"], "alpha_from": "full.A"}},
                {"name": "back", "op": "constant", "in": {"like": "full"}, "set": {"colour": backdrop}},
                {"name": "over", "op": "stack", "in": {"under": "back", "over": "sum"}},
            ]
            got = run(steps, sources).planes
            for index, name in enumerate("RGB"):
                wanted = colour[name] * alpha + np.float32(backdrop[index]) * (1 - alpha)
                self.assert_planes(got[name], wanted, 1e-6)

    def test_faults_are_placed(self) -> None:
        self.assert_refused(lambda: self.add([{}] * 4), "step 'result'", "passes", "4 passes are set, and 3")
        self.assert_refused(lambda: self.add([{"stops": "two"}]), "passes")
        self.assert_refused(lambda: self.add([{"gain": 2}]), "passes")
        self.assert_refused(lambda: self.add([{"times": "zz"}]), "zz")
        self.assert_refused(lambda: self.add([], alpha_from="a"), "alpha_from", "plane")

    def test_residual(self) -> None:
        got = one("residual", {"full": "a", "rebuilt": "b"}, self.sources, gain=4)
        self.assert_planes(got.planes["R"], 4 * np.abs(self.plane("a", "R") - self.plane("b", "R")), 1e-6)
        zero = MemorySource({"Z": gradient()})
        self.assert_refused(
            lambda: one("residual", {"full": "a", "rebuilt": "z"}, self.sources | {"z": zero}), "in common"
        )


class Audit(CoreTest):
    def answer(self, source: MemorySource, full: str = WHOLE) -> dict[str, Any]:
        plan = Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}}), 1, {"p": source})
        return audit(Engine(threads=2), plan, plan.feed("p"), full)

    def parts(self, answer: dict[str, Any]) -> dict[str, float]:
        return {part["layer"]: part["coefficient"] for part in answer["parts"]}

    def test_the_true_set_is_found_among_decoys(self) -> None:
        layers = {name: pool(seed) for seed, name in enumerate(("key", "fill", "rim", "lantern"), 1)}
        decoys = {"bounce": pool(11), "shadow_catcher": pool(12)}
        answer = self.answer(render(summed(*layers.values()), layers | decoys, **{"depth.Z": gradient(96, 64)}))
        self.assertEqual(self.parts(answer), dict.fromkeys(layers, 1.0))
        self.assertTrue(answer["claimed"])
        self.assertIsNone(answer["place"])
        self.assertLess(answer["residual"]["max"], 2e-3)
        self.assertGreater(answer["residual"]["psnr"], 65)

    def test_coefficients_other_than_one(self) -> None:
        a, b = pool(1), pool(2)
        full = {name: (a[name] * 0.5 + b[name] * 2).astype(np.float32) for name in "RGB"}
        parts = self.parts(self.answer(render(full, {"a": a, "b": b})))
        self.assertAlmostEqual(parts["a"], 0.5, 2)
        self.assertAlmostEqual(parts["b"], 2, 2)

    def test_layers_that_are_sums_of_others_and_copies(self) -> None:
        key, fill, rim = pool(1), pool(2), pool(3)
        diffuse = summed(key, fill)
        layers = {"diffuse": diffuse, "diffuse.key": key, "diffuse.fill": fill, "rim": rim}
        full = summed(key, fill, rim)
        answer = self.answer(render(full, layers | {"beauty": full, "none": {n: p * 0 for n, p in key.items()}}))
        self.assertEqual(self.parts(answer), {"diffuse.key": 1, "diffuse.fill": 1, "rim": 1})
        sums = {row["layer"]: sorted(row["of"]) for row in answer["sums"]}
        self.assertEqual(sums, {"beauty": [WHOLE], "diffuse": ["diffuse.fill", "diffuse.key"]})

    def test_lighting_times_colour(self) -> None:
        lit, spec = pool(1, strength=2), pool(2)
        colour = {name: np.clip(gradient(96, 64, 30 + i), 0.05, 1) for i, name in enumerate("RGB")}
        full = {name: (lit[name] * colour[name] + spec[name]).astype(np.float16).astype(np.float32) for name in "RGB"}
        layers = {"diffuse_lighting": lit, "diffuse_color": colour, "specular": spec}
        answer = self.answer(render(full, layers))
        self.assertTrue(answer["claimed"])
        products = [part for part in answer["parts"] if "times" in part]
        self.assertEqual([(p["layer"], p["times"]) for p in products], [("diffuse_lighting", "diffuse_color")])
        self.assertEqual(self.parts(answer)["specular"], 1)
        steps = steps_of(answer)
        rebuilt = run(steps, {"p": render(full, layers)}, "rebuilt").planes
        for name in "RGB":
            self.assert_planes(rebuilt[name], full[name], 2e-3)

    def test_glow_that_no_pass_has_is_told_with_its_place(self) -> None:
        layers = {name: pool(seed) for seed, name in enumerate(("key", "fill"), 1)}
        full = summed(*layers.values())
        for name in "RGB":
            full[name] = full[name].copy()
            full[name][40:56, 10:30] += 0.4
        answer = self.answer(render(full, layers))
        self.assertEqual(self.parts(answer), {"key": 1, "fill": 1})
        self.assertEqual(answer["place"], [10, 40, 20, 16])
        self.assertAlmostEqual(answer["residual"]["max"], 0.4, 2)
        self.assertLess(answer["explained"], 0.995)

    def test_no_set_is_claimed_where_there_is_none(self) -> None:
        answer = self.answer(render(pool(9), {"key": pool(1), "fill": pool(2), "rim": pool(3)}))
        self.assertEqual((answer["claimed"], answer["parts"], answer["place"]), (False, [], None))
        lonely = self.answer(MemorySource(pool(1)))
        self.assertFalse(lonely["claimed"])

    def test_the_full_picture_may_be_a_layer(self) -> None:
        layers = {"key": pool(1), "fill": pool(2)}
        whole = summed(*layers.values())
        source = render(pool(7), layers | {"beauty": whole})
        self.assertEqual(self.parts(self.answer(source, "beauty")), {"key": 1, "fill": 1})
        self.assert_refused(lambda: self.answer(source, "beuaty"), "beuaty", "beauty")

    def of_files(self, files: dict[str, MemorySource], first: str) -> dict[str, Any]:
        recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": name} for name in files}})
        plan = Plan(recipe, 1, files)
        feed = plan.feed(first)
        return audit(Engine(threads=2), plan, feed, None, others=beside(plan, feed))

    def test_passes_in_files_of_their_own_and_the_full_picture_among_them(self) -> None:
        key, fill = pool(1), pool(2)
        alpha = np.clip(gradient(96, 64, 5), 0, 1)
        files = {
            "fill": MemorySource(fill),
            "shot": MemorySource(summed(key, fill) | {"A": alpha}, alpha=Alpha.PREMULTIPLIED),
            "key": MemorySource(key),
            "small": MemorySource(rgb(20, 10)),
            "grey": MemorySource({"Y": gradient(96, 64)}, data=["Y"]),
        }
        for first in ("fill", "shot", "key"):
            answer = self.of_files(files, first)
            full, rebuilt = steps_of(answer)[1]["in"]["full"], steps_of(answer)[0]
            self.assertEqual(full, "shot", first)
            self.assertEqual(sorted(rebuilt["in"]["passes"]), ["fill", "key"])
            self.assertEqual(rebuilt["in"]["alpha_from"], "shot.A")
        planes = run(steps_of(answer), files, "rebuilt").planes
        self.assert_planes(planes["G"], files["shot"].planes["G"], 2e-3)
        self.assert_planes(planes["A"], alpha, 0)

    def test_the_full_picture_in_a_sum_is_told_and_taken_out(self) -> None:
        passes = {"key": pool(1), "fill": pool(2), "rim": pool(3)}
        files = {name: MemorySource(planes) for name, planes in passes.items()}
        files["shot"] = MemorySource(summed(*passes.values()))
        for names, expected in (
            (["key", "shot", "fill", "rim"], ["key", "fill", "rim"]),
            (["key", "fill", "rim"], None),
        ):
            step = {"name": "s", "op": "sum_passes", "in": {"passes": names}}
            recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": name} for name in files}, "steps": [step]})
            rows = advise(Engine(threads=2), Plan(recipe, 1, files), "s")
            remedies = [row["remedy"]["replace"]["in"]["passes"] for row in rows if row["code"] == "light_twice"]
            self.assertEqual(remedies, [expected] if expected else [])

    def test_a_sum_of_nothing_has_no_sum_in_it(self) -> None:
        for ports in ({}, {"passes": []}, {"passes": ["key"]}, {"passes": ["key", "key"]}):
            step = {"name": "s", "op": "sum_passes", "in": ports}
            recipe = parse_recipe({"nexal": 1, "sources": {"key": {"files": "k"}}, "steps": [step]})
            rows = check_sum(Engine(threads=2), Plan(recipe, 1, {"key": MemorySource(pool(1))}), "s")
            self.assertEqual([row["code"] for row in rows], ["light_twice"] if len(ports.get("passes", [])) > 1 else [])

    def test_files_that_do_not_add_up_to_any_are_claimed_by_none(self) -> None:
        answer = self.of_files({"a": MemorySource(pool(1)), "b": MemorySource(pool(2))}, "b")
        self.assertEqual((answer["claimed"], answer["parts"], answer["full"]), (False, [], "RGB"))
        # Twice the same light is no sum of it.
        twice = {name: plane * 2 for name, plane in pool(1).items()}
        self.assertFalse(self.of_files({"a": MemorySource(pool(1)), "b": MemorySource(twice)}, "a")["claimed"])

    def test_a_render_with_layers_keeps_to_itself(self) -> None:
        layers = {"key": pool(1), "fill": pool(2)}
        plan = Plan(
            parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}, "q": {"files": "q"}}}),
            1,
            {"p": render(summed(*layers.values()), layers), "q": MemorySource(pool(3))},
        )
        self.assertEqual(beside(plan, plan.feed("p")), [])

    def test_many_layers_are_looked_at_in_proxies_and_a_product_among_them_is_found(self) -> None:
        layers = {f"light_{number}": pool(number) for number in range(1, 45)}
        lights = list(layers)[:12]
        full = summed(*(layers[name] for name in lights))
        layers["group"] = summed(layers["light_3"], layers["light_4"])
        answer = self.answer(render(full, layers))
        self.assertEqual(self.parts(answer), dict.fromkeys(lights, 1.0))
        self.assertEqual([row["layer"] for row in answer["sums"]], ["group"])
        colour = {name: np.clip(gradient(96, 64, 30 + i), 0.05, 1) for i, name in enumerate("RGB")}
        lit = pool(77, strength=2)
        full = {name: (full[name] + lit[name] * colour[name]).astype(np.float32) for name in "RGB"}
        answer = self.answer(render(full, layers | {"diffuse_lighting": lit, "diffuse_color": colour}))
        self.assertIn(("diffuse_lighting", "diffuse_color"), {(p["layer"], p.get("times")) for p in answer["parts"]})

    def test_which_layers_are_candidates(self) -> None:
        source = render(pool(1), {"key": pool(2), "normal": pool(3)}, **{"depth.Z": gradient(96, 64)})
        names = {name for name in source.planes if name.startswith("normal")}
        description = source.description.changed(data=source.description.data | names)
        self.assertEqual(colour_layers(description), [WHOLE, "key"])

    def test_not_finite_pixels_do_no_harm(self) -> None:
        layers = {"key": pool(1), "fill": pool(2)}
        full = summed(*layers.values())
        full["R"][5, 5] = np.nan
        layers["key"]["G"][6, 6] = np.inf
        answer = self.answer(render(full, layers))
        self.assertEqual(self.parts(answer), {"key": 1, "fill": 1})
        json.dumps(answer, allow_nan=False)

    def test_on_the_command_line(self) -> None:
        layers = {"key": pool(1), "fill": pool(2)}
        planes = render(summed(*layers.values()), layers).planes
        path = write_exr(self.folder() / "render.exr", {n: p.astype(np.float16) for n, p in planes.items()})
        code, out, _ = command("audit", str(path), "--full", "RGB", "--json")
        answer = json.loads(out)
        self.assertEqual((code, answer["full"], self.parts(answer)), (0, "RGB", {"key": 1, "fill": 1}))
        self.assertEqual(set(answer["residual"]), {"mean", "p99", "max", "psnr"})
        code, out, err = command("audit", str(path), "--full", "nothing")
        self.assertEqual((code, out, err.count("\n")), (2, "", 1))
        self.assertIn("there is no colour layer 'nothing'", err)


if __name__ == "__main__":
    unittest.main()
