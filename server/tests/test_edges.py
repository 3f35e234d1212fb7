"""Diagnosis, profile, fringe and the warnings of the Edges bench over HTTP."""

from __future__ import annotations

from typing import Any

import numpy as np
from server_support import ServerTest, exr_bytes, planes_of

TEAL = (0.02, 0.3, 0.35)


def soft(width: int = 192, height: int = 144) -> np.ndarray:
    y, x = np.mgrid[0:height, 0:width]
    return np.clip((60 - np.hypot(x - width / 2, y - height / 2)) / 40, 0, 1).astype(np.float32)


def texture(seed: int) -> np.ndarray:
    coarse = np.random.default_rng(seed).random((18, 24))
    return (np.kron(coarse, np.ones((8, 8))) * 0.6 + 0.15).astype(np.float32)


def matted(backing: tuple[float, float, float] | None) -> dict[str, np.ndarray]:
    """A textured disc with a soft edge, straight or over a backing (mixed in linear light)."""
    a = soft()
    planes = {}
    for index, name in enumerate("RGB"):
        f = texture(index)
        planes[name] = f if backing is None else f * a + np.float32(backing[index]) * (1 - a)
    return planes | {"A": a}


class EdgesTest(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload("teal.exr", exr_bytes(matted(TEAL)))
        self.upload("plain.exr", exr_bytes({n: np.full((144, 192), 0.2, np.float32) for n in "RGB"}))
        self.upload("straight.exr", exr_bytes(matted(None)))
        self.upload("picture.exr", exr_bytes({n: p for n, p in matted(TEAL).items() if n != "A"}))
        self.upload("cover.exr", exr_bytes({"A": soft()}))
        self.path = f"/api/shots/{self.shot.pk}"

    def recipe(self, *steps: dict[str, Any]) -> dict[str, Any]:
        names = ("teal", "plain", "straight", "picture", "cover")
        return {"nexal": 1, "sources": {n: {"files": f"{n}.exr"} for n in names}, "steps": list(steps)}

    def ask(self, route: str, *steps: dict[str, Any], **more: Any) -> Any:
        answer = self.api.post(f"{self.path}/{route}", {"recipe": self.recipe(*steps), **more})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer


class Diagnosis(EdgesTest):
    def test_a_matted_file_with_its_cure(self) -> None:
        answer = self.ask("diagnose", address="teal").json()
        self.assertEqual((answer["verdict"], answer["domain"], answer["claims"]), ("matted", "scene", "premultiplied"))
        np.testing.assert_allclose(answer["backing"], TEAL, atol=0.01)
        (step,) = answer["cure"]["steps"]
        got = planes_of(self.ask("view", step, address=step["name"]))
        seen = soft() > 0.5
        self.assertLess(float(np.abs(got["R"].astype(np.float32) - texture(0))[seen].mean()), 0.01)

    def test_picture_and_alpha_from_two_files(self) -> None:
        self.assertEqual(self.ask("diagnose", address="picture").json()["verdict"], "no_alpha")
        answer = self.ask("diagnose", address="picture", alpha="cover.A").json()
        self.assertEqual(answer["verdict"], "matted")
        self.assertEqual([step["op"] for step in answer["cure"]["steps"]], ["attach_alpha", "clear_backing"])

    def test_a_claim_that_is_wrong_is_read_otherwise(self) -> None:
        answer = self.ask("diagnose", address="straight").json()
        self.assertEqual((answer["verdict"], answer["cure"]["read"]), ("straight", "straight"))

    def test_a_picture_of_data_is_refused(self) -> None:
        fault = self.api.post(f"{self.path}/diagnose", {"recipe": self.recipe(), "address": "cover"})
        self.assertEqual((fault.status_code, fault.json()["code"]), (422, "recipe"))


class Looking(EdgesTest):
    def test_profiles_of_several_items(self) -> None:
        clear = {"name": "clear", "op": "clear_backing", "in": {"picture": "teal"}, "set": {"colour": list(TEAL)}}
        line = {"start": [96, 72], "end": [170, 72], "backdrop": [1, 1, 1]}
        before, after = self.ask("profile", clear, addresses=["teal", "clear"], **line).json()
        self.assertEqual(len(before["r"]), len(after["a"]))
        np.testing.assert_allclose(before["a"], after["a"], atol=1e-6)
        # Beyond the edge there is only the white behind; a matted file adds its own backing to that.
        self.assertAlmostEqual(after["g"][-1], 1, 3)
        self.assertGreater(before["g"][-1], 1.05)

    def test_odd_lines_and_pictures_are_refused_with_a_reason(self) -> None:
        line = {"addresses": ["teal"], "start": [5, 5], "end": [60, 5]}
        for change in ({"end": [1e300, 5]}, {"end": [5, 5]}, {"addresses": ["cover"]}, {"addresses": ["gone"]}):
            fault = self.api.post(f"{self.path}/profile", {"recipe": self.recipe(), **line, **change})
            self.assertEqual(fault.status_code, 422, change)
            self.assertTrue(fault.json()["message"], change)
        told = {"verdict": "straight"}
        fault = self.api.post(f"{self.path}/view", {"recipe": self.recipe(), "address": "cover", "fringe": told})
        self.assertEqual(fault.status_code, 422)

    def test_the_fringe_of_a_matted_file_is_coloured_and_that_of_the_cure_is_not(self) -> None:
        told = {"verdict": "matted", "domain": "scene", "backing": list(TEAL)}
        seen = planes_of(self.ask("view", address="teal", fringe=told))
        self.assertEqual(list(seen), ["R", "G", "B"])
        self.assertGreater(float(np.abs(seen["R"].astype(float) - seen["B"]).max()), 0.3)
        clear = {"name": "clear", "op": "clear_backing", "in": {"picture": "teal"}, "set": {"colour": list(TEAL)}}
        told = {"verdict": "straight", "domain": None, "backing": [0, 0, 0]}
        seen = planes_of(self.ask("view", clear, address="clear", fringe=told))
        self.assertEqual(float(np.abs(seen["R"].astype(float) - seen["B"]).max()), 0)

    def test_the_evidence_as_pictures(self) -> None:
        a = soft()
        under = planes_of(self.ask("view", address="teal", evidence="under"))
        # What lies where alpha is 0 is the backing, as it is seen; elsewhere nothing is shown.
        self.assertAlmostEqual(float(under["G"][2, 2]), 1.055 * TEAL[1] ** (1 / 2.4) - 0.055, 2)
        self.assertEqual(float(under["G"][a > 0].max()), 0)
        brighter = planes_of(self.ask("view", address="teal", evidence="brighter"))["R"].astype(np.float32)
        encoded = 1.055 * np.maximum.reduce([matted(TEAL)[n] for n in "RGB"]) ** (1 / 2.4) - 0.055
        sure = (a > 0.05) & (a < 0.95) & (np.abs(encoded - a) > 0.05)
        np.testing.assert_array_equal(brighter[sure] > 0.9, (encoded > a)[sure])
        apart = planes_of(self.ask("view", address="picture", alpha="cover.A", evidence="under"))
        np.testing.assert_array_equal(apart["G"], under["G"])


class Advised(EdgesTest):
    def found(self, *steps: dict[str, Any]) -> list[dict[str, Any]]:
        codes = ("twice", "alpha_alone", "not_premultiplied_over", "not_straight_over")
        return [row for row in self.ask("checks", *steps, item=steps[-1]["name"]).json() if row["code"] in codes]

    def test_divided_twice(self) -> None:
        first = {"name": "first", "op": "unpremultiply", "in": {"picture": "teal"}}
        self.assertEqual(self.found(first), [])
        (warning,) = self.found(first, {"name": "again", "op": "unpremultiply", "in": {"picture": "first"}})
        self.assertEqual((warning["code"], warning["remedy"]["does"]["replace"]), ("twice", {"on": False}))

    def test_alpha_blurred_alone(self) -> None:
        blur = {"name": "soft", "op": "blur", "in": {"from": "teal"}, "set": {"radius": 3, "channels": ["A"]}}
        (warning,) = self.found(blur)
        melt = warning["remedy"]["does"]["replace"]
        self.assertEqual((melt["op"], melt["in"], melt["set"]["radius"]), ("edge_melt", {"picture": "teal"}, 3))
        self.ask("view", {"name": "soft", **melt}, address="soft")
        self.assertEqual(self.found(blur | {"set": {"radius": 3}}), [])

    def test_a_picture_that_is_not_what_it_is_taken_for(self) -> None:
        stack = {"name": "comp", "op": "stack", "in": {"under": "plain", "over": "teal"}}
        (warning,) = self.found(stack)
        self.assertEqual(warning["remedy"]["does"]["instead"], "teal")
        self.assertEqual([step["op"] for step in warning["remedy"]["does"]["steps"]], ["clear_backing"])
        grade = {"name": "warm", "op": "grade", "in": {"picture": "teal"}, "set": {"exposure": 1}}
        texts = [row["text"] for row in self.ask("checks", grade, item="warm").json()]
        self.assertTrue(any("graded as premultiplied" in text for text in texts), texts)
        (warning,) = self.found(stack | {"in": {"under": "plain", "over": "straight"}})
        self.assertEqual(warning["remedy"]["does"]["read_alpha"], {"straight": "straight"})
        clear = {"name": "clear", "op": "clear_backing", "in": {"picture": "teal"}, "set": {"colour": list(TEAL)}}
        self.assertEqual(self.found(clear, stack | {"in": {"under": "plain", "over": "clear"}}), [])
