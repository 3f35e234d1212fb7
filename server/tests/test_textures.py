"""The Packing bench's routes: the lit object, proofs, own layouts and finishes, channel files out and in."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import HttpResponse
from server_support import ServerTest, crowded, exr_bytes, planes_of

from projects.models import Project
from sources.models import Source


def texture_recipe(**layers: list[dict[str, Any]]) -> dict[str, Any]:
    """Three bays and their texture over an uploaded mask; `layers` are the bars of each."""
    bays = {"occlusion": 1.0, "roughness": 0.42, "metallic": 0.0}
    steps = [
        {"name": name, "op": "bay", "in": {"like": "mask"}, "set": {"base": base, "layers": layers.get(name, [])}}
        for name, base in bays.items()
    ]
    meanings = {port: {"meaning": name} for port, name in zip("rgb", bays, strict=True)}
    pack = {
        "name": "texture",
        "op": "pack",
        "in": dict(zip("rgb", bays, strict=True)),
        "set": {"layout": "orm", "meanings": meanings},
    }
    return {"nexal": 1, "sources": {"mask": {"files": "mask.exr", "colour": "data"}}, "steps": [*steps, pack]}


class Textures(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        cover = np.zeros((64, 64), np.float32)
        cover[16:48, 16:48] = 1
        self.upload("mask.exr", exr_bytes({"Y": cover}))
        self.brass = [{"value": 0.9, "mask": "mask"}]
        self.assertEqual(self.save(texture_recipe(metallic=self.brass)).status_code, 200)
        self.path = f"/api/shots/{self.shot.pk}"

    def test_the_lit_object_comes_as_finished_planes_and_shows_what_changed(self) -> None:
        ask = {"packed": "texture", "size": 96, "turn": [10, 5], "object": "panel"}
        plain = planes_of(self.api.post(f"{self.path}/lit", ask | {"recipe": texture_recipe()}))
        answer = self.api.post(f"{self.path}/lit", ask)
        about = json.loads(answer["X-Nexal-View"])
        self.assertTrue(about["finished"])
        self.assertEqual((about["region"], about["channels"]), ([0, 0, 96, 96], ["R", "G", "B"]))
        brass = planes_of(answer)
        gap = np.abs(brass["R"].astype(np.float32) - plain["R"])
        self.assertGreater(float(gap[48, 48]), 0.05)
        self.assertEqual(float(gap[:4].max()), 0)

    def test_the_lit_object_tells_who_turns_it_when_their_turn_comes(self) -> None:
        ask = {"packed": "texture", "size": 32}
        with crowded(0.2):
            followed = self.api.post(f"{self.path}/lit", ask | {"view": "lit"})
            unnamed = self.api.post(f"{self.path}/lit", ask)
        self.assertEqual(followed.headers.get("X-Nexal-Next"), "200")
        self.assertNotIn("X-Nexal-Next", unnamed.headers)

    def test_odd_questions_about_the_object_are_refused_with_a_reason(self) -> None:
        for change, words in (
            ({"object": "teapot"}, "object"),
            ({"size": 100_000}, "size"),
            ({"key": [3, 0]}, "key"),
            ({"turn": ["left", 0]}, "turn"),
            ({"packed": "gone"}, "gone"),
            ({"base": "metallic"}, "red, green and blue"),
        ):
            with self.subTest(change):
                answer = self.api.post(f"{self.path}/lit", {"packed": "texture", "size": 32} | change)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, json.dumps(answer.json()))

    def test_proof_of_eight_and_sixteen_bit(self) -> None:
        rows = {row["name"]: row for row in self.api.post(f"{self.path}/proof", {"address": "texture"}).json()}
        self.assertEqual((rows["B"]["first"], rows["B"]["last"], rows["B"]["most"]), (0, 230, 255))
        self.assertAlmostEqual(rows["B"]["largest"], 0.5, 4)
        self.assertEqual([row["clipped"] for row in rows.values()], [0, 0, 0])
        deep = self.api.post(f"{self.path}/proof", {"address": "texture", "depth": "16"}).json()
        self.assertEqual(deep[1]["last"], int(0.42 * 65535 + 0.5))
        for body, words in (({"address": "texture", "depth": "12"}, "12"), ({"address": "gone"}, "gone")):
            answer = self.api.post(f"{self.path}/proof", body)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, json.dumps(answer.json()))

    def test_written_and_read_back(self) -> None:
        told = self.api.post(f"{self.path}/proof/written", {"address": "texture", "format": "tiff", "depth": "16"})
        self.assertEqual([row["wrong"] for row in told.json()["channels"]], [0, 0, 0])

    def test_losses_of_a_level_and_of_blocks_once_they_are_made(self) -> None:
        recipe = texture_recipe(metallic=self.brass)
        recipe["steps"] += [
            {"name": "smaller", "op": "mip", "in": {"from": "texture"}, "set": {"level": 5}},
            {"name": "packed", "op": "blocks", "in": {"from": "texture"}},
        ]
        ask = {"address": "texture", "recipe": recipe}
        rows = self.api.post(f"{self.path}/losses", ask | {"seen": "smaller"}).json()
        # Half of each block of 32 is covered at most: 0.9 against its mean.
        self.assertAlmostEqual(rows[2]["max"], 0.9 * 0.75, 4)
        self.assertIsNone(rows[0]["psnr"])
        answer = self.api.post(f"{self.path}/losses", ask | {"seen": "packed"})
        self.assertEqual((answer.status_code, answer.json()["code"]), (202, "pending"))
        answer = self.api.post(f"{self.path}/losses", ask | {"seen": "metallic"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("other channels", answer.json()["message"])

    def test_warnings_come_with_remedies(self) -> None:
        bars = [{"value": 1.0, "mask": "mask"}, {"value": 0.5}]
        answer = self.api.post(
            f"{self.path}/checks", {"item": "roughness", "recipe": texture_recipe(roughness=bars)}
        ).json()
        row = next(row for row in answer if row["code"] == "covered")
        self.assertEqual(row["remedy"]["does"]["replace"]["set"]["layers"], bars[::-1])

    def deliver(self, **spec: Any) -> HttpResponse:
        body = {"name": "tin", "spec": {"from": "texture", "alpha": "none"} | spec}
        made = self.api.post(f"{self.path}/deliverables", body)
        self.assertEqual(made.status_code, 200, made.content)
        render = self.api.post(f"{self.path}/deliverables/{made.json()['id']}/renders").json()
        self.assertEqual(render["state"], "done", render)
        return self.api.get(f"{self.path}/renders/{render['id']}/file")

    def test_names_by_pattern(self) -> None:
        answer = self.deliver(file="{shot}_{layout}_{name}.png")
        self.assertIn('filename="040_moth_orm_tin.png"', answer["Content-Disposition"])

    def test_a_name_that_asks_for_what_is_not_there_fails_with_a_remedy(self) -> None:
        body = {"name": "mask", "spec": {"from": "metallic", "file": "{layout}.png"}}
        made = self.api.post(f"{self.path}/deliverables", body).json()
        render = self.api.post(f"{self.path}/deliverables/{made['id']}/renders").json()
        self.assertEqual(render["state"], "failed")
        self.assertIn("layout", render["frames"][0]["error"]["message"])
        wrong = {"name": "odd", "spec": {"from": "metallic", "file": "{moon}.png"}}
        self.assertEqual(self.api.post(f"{self.path}/deliverables", wrong).status_code, 422)

    def reassemble(self, files: dict[str, bytes]) -> HttpResponse:
        sent = [SimpleUploadedFile(name, content) for name, content in files.items()]
        return self.api.client.post(f"{self.path}/sources/reassembled", {"files": sent})

    def split(self) -> dict[str, bytes]:
        answer = self.deliver(file="tin.png", depth=16, split=True)
        self.assertIn('filename="tin.zip"', answer["Content-Disposition"])
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
            return {name: archive.read(name) for name in archive.namelist()}

    def test_channel_files_go_out_and_come_back_as_one_source(self) -> None:
        files = self.split()
        self.assertEqual([*files], ["tin.R.png", "tin.G.png", "tin.B.png", "tin.channels.json"])
        answer = self.reassemble(files)
        self.assertEqual(answer.status_code, 200, answer.content)
        self.assertEqual(answer.json()["told"], [])
        source = Source.objects.get(pk=answer.json()["source"]["id"])
        self.assertEqual((source.files, source.state), ("tin.png", "ready"))
        recipe = {"nexal": 1, "sources": {"tin": {"files": "tin.png"}}}
        probed = self.api.post(f"{self.path}/probe", {"recipe": recipe, "addresses": ["tin"], "x": 20, "y": 20}).json()[
            0
        ]
        values = {row["name"]: row["value"] for row in probed["channels"]}
        for name, wanted in (("R", 1.0), ("G", 0.42), ("B", 0.9)):
            self.assertAlmostEqual(values[name], wanted, 4)

    def test_renamed_lost_and_foreign_files_are_told(self) -> None:
        files = self.split()
        files["green.png"] = files.pop("tin.G.png")
        files["note.png"] = files["tin.R.png"]
        told = self.reassemble(files).json()["told"]
        self.assertIn("channel G came as green.png, it was tin.G.png", told)
        self.assertIn("note.png belongs to no channel and was left aside", told)
        files.pop("green.png")
        answer = self.reassemble(files)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("tin.G.png", answer.json()["where"])
        manifest = files.pop("tin.channels.json")
        self.assertIn("manifest", self.reassemble(files).json()["message"])
        damaged = files | {"tin.channels.json": manifest, "tin.G.png": b"no picture"}
        self.assertIn("tin.G.png", self.reassemble(damaged).json()["where"])


class OwnSets(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.path = f"/api/projects/{self.project.pk}/packing"
        self.layout = {
            "name": "gloss_first",
            "title": "gloss first",
            "channels": [
                {"port": "r", "meaning": "roughness", "inverted": True, "default": 0.4},
                {"port": "g", "meaning": "metallic"},
                {"port": "b", "meaning": "mask"},
            ],
        }
        self.finish = {"name": "soot", "title": "soot", "values": {"roughness": 0.97, "metallic": 0}}

    def put(self, layouts: list[Any], finishes: list[Any]) -> HttpResponse:
        return self.api.send("PUT", self.path, {"layouts": layouts, "finishes": finishes})

    def test_a_project_keeps_its_own_beside_the_programs(self) -> None:
        before = self.api.get(self.path).json()
        self.assertFalse(any(row["own"] for row in [*before["layouts"], *before["finishes"]]))
        self.assertEqual(self.put([self.layout], [self.finish]).status_code, 200)
        after = self.as_user(self.viewer).get(self.path).json()
        self.assertEqual([row["name"] for row in after["layouts"] if row["own"]], ["gloss_first"])
        self.assertTrue(after["layouts"][-1]["channels"][0]["inverted"])
        self.assertEqual(after["finishes"][-1]["values"]["roughness"], 0.97)
        other = Project.objects.create(name="Other")
        self.assertEqual(other.layouts, [])
        self.assertEqual(self.put([], []).json(), before)

    def test_wrong_ones_are_refused_and_nothing_is_lost(self) -> None:
        self.put([self.layout], [self.finish])
        for layouts, finishes, words in (
            ([self.layout | {"name": "orm"}], [], "taken"),
            ([self.layout, self.layout], [], "taken"),
            ([], [self.finish | {"values": {"coat": 3}}], "coat"),
            ([], [self.finish] * 101, "100"),
            ([{"moth": 1}], [], "layout 1"),
        ):
            with self.subTest(words):
                answer = self.put(layouts, finishes)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, json.dumps(answer.json()))
        self.project.refresh_from_db()
        self.assertEqual((len(self.project.layouts), len(self.project.finishes)), (1, 1))
