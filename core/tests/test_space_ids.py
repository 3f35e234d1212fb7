"""Ids of things and their names: against scenes whose space is known."""

from __future__ import annotations

import json
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, one, rgba, run, write_exr

from demo.night.naming import hashed_names, hashed_value
from nexal.formats.decoded import tagged
from nexal.hashed_ids import bits_of, id_layers, manifest_files, manifest_in, ranked
from nexal.picture import Trait, Window
from nexal.session import Session


class Ids(CoreTest):
    NAMES = ("moth", "post", "pot")

    def hashed(self, **more: Any) -> MemorySource:
        cover = np.zeros((8, 12, 2), np.float32)
        cover[:, :6, 0], cover[:, 6:, 0] = 1, 0.6
        cover[:, 6:, 1] = 0.4
        numbers = [hashed_value(name) for name in self.NAMES]
        first = np.where(np.arange(12) < 6, numbers[0], numbers[1]) + np.zeros((8, 1))
        second = np.where(np.arange(12) < 6, 0.0, numbers[2]) + np.zeros((8, 1))
        planes = {"things00.R": first, "things00.G": cover[..., 0], "things00.B": second, "things00.A": cover[..., 1]}
        traits = {name: Trait("id", samples=more.get("samples", "float")) for name in planes}
        source = MemorySource(planes, data=list(planes), traits=traits)
        told = more.get("header", hashed_names("things", self.NAMES))
        source.description = source.description.changed(metadata={key: tagged(value) for key, value in told.items()})
        return source

    def test_hashes_agree_with_another_writer_of_them(self) -> None:
        for name in ("", "a", "moth", "über uns", "pod_17/left wing", "x" * 300):
            self.assertEqual(np.float32(hashed_value(name)).view(np.uint32), bits_of(name), name)
        self.assertEqual(bits_of("\ud800"), bits_of("?"), "half of a letter is no fault")

    def test_coverage_of_picked_names(self) -> None:
        sources = {"ids": self.hashed()}
        cases = (
            (["moth"], [1, 0]), (["post"], [0, 0.6]), (["pot"], [0, 0.4]), (["moth", "pot", "post"], [1, 1]),
            ([f"{bits_of('post'):08x}"], [0, 0.6]), ([], [0, 0]),
        )  # fmt: skip
        for pick, (left, right) in cases:
            made = one("id_pick", {"ids": "ids"}, sources, pick=pick).planes["Y"]
            self.assert_planes(made[:, :6], left, 1e-6)
            self.assert_planes(made[:, 6:], right, 1e-6)
        small = run(
            [{"name": "m", "op": "id_pick", "in": {"ids": "ids"}, "set": {"pick": ["post"]}}], sources,
            scale=Fraction(1, 2),
        )  # fmt: skip
        self.assertEqual(set(np.unique(small.planes["Y"])), {np.float32(0), np.float32(0.6)})
        inverted = one("id_pick", {"ids": "ids"}, sources, pick=["post"], invert=True).planes["Y"]
        self.assert_planes(inverted[:, 6:], 0.4, 1e-6)

    def test_what_cannot_be_picked_is_told(self) -> None:
        sources = {"ids": self.hashed(), "half": self.hashed(samples="half"), "pic": rgba()}
        self.assert_refused(lambda: one("id_pick", {"ids": "ids"}, sources, pick=["mott"]), "no 'mott'", "moth")
        self.assert_refused(lambda: one("id_pick", {"ids": "half"}, sources, pick=["moth"]), "stored as halves")
        self.assert_refused(lambda: one("id_pick", {"ids": "pic"}, sources, pick=["moth"]), "no layer of hashed ids")
        self.assert_refused(
            lambda: one("id_pick", {"ids": "ids"}, sources, pick=["moth"], layer="x"), "no layer of ids 'x'"
        )
        self.assert_refused(lambda: one("id_pick", {"ids": "pic.R"}, sources, pick=["moth"]), "is no number")

    def test_manifests_that_do_not_match_and_files_without_one(self) -> None:
        told = hashed_names("things", self.NAMES)
        key = next(name for name in told if name.endswith("manifest"))
        wrong = told | {key: json.dumps({"moth": f"{bits_of('post'):08x}", "post": f"{bits_of('post'):08x}"})}
        (layer,) = id_layers({name: tagged(value) for name, value in wrong.items()}).values()
        self.assertIn("1 of 2 names", layer.problem)
        broken = told | {key: "{not"}
        (layer,) = id_layers({name: tagged(value) for name, value in broken.items()}).values()
        self.assertIn("cannot be read", layer.problem)
        # Without a header names are hashed, and found.
        made = one("id_pick", {"ids": "ids"}, {"ids": self.hashed(header={})}, pick=["moth"]).planes["Y"]
        self.assert_planes(made[:, :6], 1)
        self.assertEqual(
            ranked("a", ["a01.red", "a01.green", "a00.R", "a00.G", "a00.B", "a00.A", "ab00.R"]),
            [("a00.R", "a00.G"), ("a00.B", "a00.A"), ("a01.red", "a01.green")],
        )

    def test_a_manifest_in_a_file_beside_the_picture(self) -> None:
        place = self.folder()
        told = hashed_names("things", ("moth", "pot"))
        key = next(iter(told)).rpartition("/")[0]
        text = told.pop(f"{key}/manifest")
        told[f"{key}/manif_file"] = "names\\Things.json"
        ids = np.full((4, 6), hashed_value("moth"), np.float32)
        planes = {"things00.R": ids, "things00.G": np.ones_like(ids), "things00.B": 0 * ids, "things00.A": 0 * ids}
        path = write_exr(place / "ids.exr", planes, told)
        heard: list[str] = []
        with Session(warn=heard.append) as session:
            self.assertEqual(id_layers(session.open(path).description.metadata)["things"].names, {})
            self.assertIn("Things.json", " ".join(heard))
            (place / "Things.json").write_text("{1: ", encoding="utf-8")
            session.open(path)
            self.assertIn("is no manifest of ids", heard[-1])
            (place / "Things.json").write_text(text, encoding="utf-8")
            named = session.open(path)
            layer = id_layers(named.description.metadata)["things"]
            self.assertEqual((set(layer.names), layer.problem), ({"moth", "pot"}, ""))
            # Delivered on, the names stand in the header, and the file is not asked for any more.
            self.assertEqual(manifest_files(named.description.metadata), {})
        for wrong in (b"[]", b'{"moth": 3}', b'{"moth": "123456789"}', b"\xff", b'{"moth": "zz"}'):
            self.assert_refused(lambda wrong=wrong: manifest_in(wrong, "x.json"), "is no manifest of ids")
        self.assertEqual(
            manifest_files({f"{key}/name": "things", f"{key}/manif_file": tagged("../../x/")}), {"x": f"{key}/manifest"}
        )

    def test_plain_numbers(self) -> None:
        ids = np.array([[0, 3, 3, 16777217, np.nan, -2]], np.float64)
        source = MemorySource(
            {"id": ids}, data=["id"], traits={"id": Trait("id", samples="uint")}, window=Window(0, 0, 6, 1)
        )
        cover = MemorySource({"Y": np.full((1, 6), 0.5, np.float32)}, data=["Y"])
        for pick, wanted in (([3], [0, 1, 1, 0, 0, 0]), ([16777217, -2], [0, 0, 0, 1, 0, 1]), ([16777216], [0] * 6)):
            made = one("id_pick", {"ids": "ids.id"}, {"ids": source}, pick=pick).planes["Y"]
            self.assert_planes(made, [wanted])
        made = one("id_pick", {"ids": "ids.id", "coverage": "cover"}, {"ids": source, "cover": cover}, pick=["3"])
        self.assert_planes(made.planes["Y"], [[0, 0.5, 0.5, 0, 0, 0]])
