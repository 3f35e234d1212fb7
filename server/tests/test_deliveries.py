"""Deliverables: rendered, downloaded, reproduced by the command line, refused where they cannot be."""

from __future__ import annotations

import contextlib
import io
import json
import shutil
import tempfile
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from server_support import ServerTest, plate

from deliveries import services
from deliveries.models import Render, RenderedFrame, RenderState
from deliveries.services import frame_path, render_folder
from deliveries.services import run as run_render
from jobs.services import resume
from nexal.cli import main
from nexal.session import render_output
from sources.services import library, stored


class Deliver(ServerTest):
    own_store = True

    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.path = f"/api/shots/{self.shot.pk}"

    def make(self, name: str = "cut", **spec: object) -> dict:
        answer = self.api.post(
            f"{self.path}/deliverables", {"name": name, "spec": {"from": "cut", "file": "cut.exr"} | spec}
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def render(self, deliverable: dict) -> dict:
        return self.api.post(f"{self.path}/deliverables/{deliverable['id']}/renders").json()

    def download(self, render: dict) -> bytes:
        answer = self.api.get(f"{self.path}/renders/{render['id']}/file")
        self.assertEqual(answer.status_code, 200)
        return b"".join(answer.streaming_content)

    def test_rendered_downloaded_and_the_same_from_the_command_line(self) -> None:
        import OpenEXR

        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        render = self.render(self.make(depth="float"))
        self.assertEqual((render["state"], render["revision"], render["frames"][0]["file"]), ("done", 2, "cut.exr"))
        (folder / "server.exr").write_bytes(self.download(render))
        recipe = self.api.get(f"{self.path}/recipe").content
        (folder / "recipe.json").write_bytes(recipe)
        original = Path(self.shot.sources.get().original.path)
        with contextlib.redirect_stdout(io.StringIO()):
            code = main(["run", str(folder / "recipe.json"), "--source", f"moth={original}", "--out", str(folder)])
            self.assertEqual(code, 0)
        parts = [
            OpenEXR.File(str(folder / name), separate_channels=True).parts[0] for name in ("server.exr", "cut.exr")
        ]
        for name in "RGBA":
            np.testing.assert_array_equal(parts[0].channels[name].pixels, parts[1].channels[name].pixels)
        self.assertEqual(parts[0].header["nexal.sources"], parts[1].header["nexal.sources"])
        self.assertEqual(parts[0].header["nexal.recipe"], parts[1].header["nexal.recipe"])
        p = plate()
        self.assertEqual(parts[0].channels["A"].pixels[0, 0], 0)
        self.assertEqual(parts[0].channels["R"].pixels[24, 32], p["R"][24, 32])

    def announced(self, **spec: object) -> dict:
        ask = {"name": "cut", "spec": {"from": "cut", "file": "cut.exr"} | spec, "first": 1, "last": 1}
        for name in ("first", "last"):
            ask[name] = ask["spec"].pop(name, 1)
        return self.api.post(f"{self.path}/announcement", ask).json()

    def test_what_will_be_written_is_said_before_and_stands_there_afterwards(self) -> None:
        """Against the files themselves, of every format that can hold the picture."""
        for spec, wanted in (
            ({}, "OpenEXR, half floats; channels that nothing changed as their source has them; linear light; "),
            ({"depth": "float"}, "OpenEXR, 32-bit floats; linear light; premultiplied alpha; R, G, B, A; "),
            ({"file": "a.png"}, "PNG, 8 bit; sRGB-encoded, clipped to 0 to 1; straight alpha; R, G, B, A; "),
            (
                {"file": "a.png", "depth": "16", "alpha": "none"},
                "PNG, 16 bit; sRGB-encoded, clipped to 0 to 1; without",
            ),
            ({"from": "matte", "file": "a.png"}, "PNG, 8 bit; values as they are; Y; "),
            ({"from": {"moth": "matte", "all": "cut.A"}}, "values as they are; moth, all; "),
            ({"file": "a.dpx"}, "DPX, 10 bit; sRGB-encoded, clipped to 0 to 1; without its alpha; R, G, B; "),
        ):
            with self.subTest(spec):
                line = self.announced(**spec)["line"]
                self.assertIn(wanted, line)
                height, width = plate()["R"].shape
                self.assertIn(f"{width} x {height}; one file, ", line)
                made = self.make(f"d{Render.objects.count()}", **spec)
                render = self.render(made)
                self.assertEqual((render["state"], render["written"]), ("done", line))
        # A name that speaks of another format is refused, before and at the door.
        answer = self.api.post(
            f"{self.path}/deliverables",
            {"name": "odd", "spec": {"from": "cut", "file": "as_named.exr", "format": "png", "depth": "16"}},
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("ends like a file of exr", answer.json()["message"])
        self.assertIn("ends like", self.announced(file="as_named.exr", format="png")["message"])

    def test_many_files_of_the_same_picture_are_told(self) -> None:
        answer = self.announced(file="cut.%04d.exr", first=3, last=42)
        self.assertTrue(answer["same"])
        self.assertIn("40 files, cut.0003.exr to cut.0042.exr", answer["line"])
        self.assertFalse(self.announced()["same"])

    def test_every_format_that_is_offered_is_written(self) -> None:
        formats = self.api.get("/api/formats").json()
        self.assertEqual({row["name"] for row in formats}, {"exr", "png", "tiff", "tga", "dpx", "jpeg", "hdr"})
        for row in formats:
            for depth in row["depths"]:
                with self.subTest(f"{row['name']} {depth}"):
                    name = f"d_{row['name']}_{depth}"
                    made = self.make(name, file=f"{name}{row['suffix']}", format=row["name"], depth=depth)
                    self.assertEqual(self.render(made)["state"], "done")

    def test_a_revision_rendered_is_the_one_that_was_shown(self) -> None:
        deliverable = self.make()
        before = self.render(deliverable)
        self.save({"nexal": 1})
        after = self.render(deliverable)
        self.assertEqual((after["state"], after["revision"]), ("failed", 3))
        problem = after["frames"][0]["error"]
        self.assertIn("cut", problem["message"] + problem["where"])
        self.assertTrue(self.download(before))
        self.assertEqual(self.api.get(f"{self.path}/renders/{after['id']}/file").status_code, 404)

    def test_a_render_is_made_as_it_was_asked_for_whatever_became_of_the_deliverable(self) -> None:
        deliverable = self.make(file="two.exr", format="exr")
        with mock.patch("deliveries.services.jobs.submit"):
            waiting = self.render(deliverable)
        spec = {"from": "cut", "file": "other.png", "format": "png"}
        changed = self.api.send("PUT", f"{self.path}/deliverables/{deliverable['id']}", spec)
        self.assertEqual(changed.status_code, 200, changed.content)
        resume()
        frame = RenderedFrame.objects.get(render=waiting["id"])
        self.assertEqual((frame.state, Path(frame.file).name), ("done", "two.exr"))
        self.assertEqual(self.download(waiting)[:4], b"\x76\x2f\x31\x01")
        self.assertEqual(self.render(deliverable)["frames"][0]["file"], "other.png")

    def test_a_disk_without_room_is_told_and_nothing_is_blamed(self) -> None:
        deliverable = services.create(self.shot, "full", {"from": "cut", "file": "cut.exr"})
        with mock.patch("deliveries.services.render_output", side_effect=OSError(28, "No space left on device")):
            render = services.start(deliverable, self.owner.pk)
        frame = render.frames.get()
        self.assertEqual((frame.state, frame.error["code"]), ("failed", "disk"))

    def test_what_is_not_there_any_more_is_told(self) -> None:
        """A house that was restored knows what was delivered, and has none of the files."""
        made = self.make(file="cut.%04d.exr")
        self.api.post(f"{self.path}/deliverables/{made['id']}/renders", {"first": 1, "last": 3})

        def kept() -> list[tuple[str, bool]]:
            row = self.api.get(f"{self.path}/deliverables").json()[0]
            return [(frame["state"], frame["kept"]) for frame in row["render"]["frames"]]

        self.assertEqual(kept(), [("done", True)] * 3)
        render = Render.objects.get()
        frame_path(render.frames.get(frame=2)).unlink()
        self.assertEqual(kept(), [("done", True), ("done", False), ("done", True)])
        self.assertEqual(self.api.get(f"{self.path}/renders/{render.pk}/file?frame=2").status_code, 404)
        self.assertEqual([name for name, _ in services.files_of(render)], ["cut.0001.exr", "cut.0003.exr"])

    def test_all_files_come_in_one_archive(self) -> None:
        path = f"/api/shots/{self.shot.pk}"
        self.assertEqual(self.api.get(f"{path}/delivered").status_code, 404)
        alone = {}
        for name in ("one", "two", "three"):
            spec = {"from": "cut", "file": "cut.exr" if name != "three" else "small.png"}
            made = self.api.post(f"{path}/deliverables", {"name": name, "spec": spec}).json()
            if name == "three":
                continue
            render = self.render(made)
            alone[name] = b"".join(self.api.get(f"{path}/renders/{render['id']}/file").streaming_content)
        answer = self.api.get(f"{path}/delivered")
        self.assertIn(".zip", answer["Content-Disposition"])
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
            self.assertIsNone(archive.testzip())
            got = {name: archive.read(name) for name in archive.namelist()}
        self.assertEqual(sorted(got), ["cut.exr", "two_cut.exr"])
        self.assertEqual(set(got.values()), set(alone.values()))

    def test_a_removed_deliverable_takes_its_files_along(self) -> None:
        kept, gone = self.make("kept"), self.make("gone")
        paths = [frame_path(RenderedFrame.objects.get(render=self.render(row)["id"])) for row in (kept, gone)]
        self.api.send("DELETE", f"{self.path}/deliverables/{gone['id']}")
        self.assertEqual([path.exists() for path in paths], [True, False])
        self.assertFalse(paths[1].parent.exists())

    def test_one_that_is_removed_while_it_renders_leaves_nothing(self) -> None:
        deliverable = self.make()

        def removed_meanwhile(*given: object, **named: object) -> object:
            self.api.send("DELETE", f"{self.path}/deliverables/{deliverable['id']}")
            return render_output(*given, **named)

        with mock.patch("deliveries.services.jobs.submit"):
            waiting = self.render(deliverable)
        with mock.patch("deliveries.services.render_output", side_effect=removed_meanwhile):
            run_render(waiting["id"])
        self.assertFalse(render_folder(waiting["id"]).exists())

    def test_a_source_that_the_store_dropped_is_unpacked_for_a_render(self) -> None:
        deliverable = self.make()
        before = self.download(self.render(deliverable))
        library().close()
        shutil.rmtree(stored(self.shot.sources.get()).folder)
        self.assertEqual(self.download(self.render(deliverable)), before)

    def test_what_cannot_be_written_is_refused_at_once(self) -> None:
        for spec, word in (
            ({"file": "../up.exr"}, "file"),
            ({"file": "x.what"}, "format"),
            ({"file": "x.jpg", "alpha": "straight"}, "alpha"),
            ({"file": "x.png", "depth": "half"}, "depth"),
            ({"file": "x.exr", "size": 3}, "size"),
        ):
            answer = self.api.post(f"{self.path}/deliverables", {"name": "x", "spec": {"from": "cut"} | spec})
            self.assertEqual(answer.status_code, 422, spec)
            self.assertIn(word, json.dumps(answer.json()))
        self.assertEqual(self.api.post(f"{self.path}/deliverables", {"name": "Bad", "spec": {}}).status_code, 422)
        self.make("taken")
        again = {"name": "taken", "spec": {"from": "cut", "file": "c.exr"}}
        self.assertEqual(self.api.post(f"{self.path}/deliverables", again).status_code, 409)

    def test_changed_and_removed(self) -> None:
        made = self.make()
        path = f"{self.path}/deliverables/{made['id']}"
        changed = self.api.send("PUT", path, {"from": "matte", "file": "matte.png"}).json()
        self.assertEqual(changed["spec"], {"from": "matte", "file": "matte.png"})
        self.assertEqual(self.api.send("DELETE", path).status_code, 204)
        self.assertEqual(self.api.get(f"{self.path}/deliverables").json(), [])

    def test_a_render_that_was_cut_off_is_taken_up(self) -> None:
        render = self.render(self.make())
        Render.objects.update(state=RenderState.RENDERING)
        RenderedFrame.objects.update(state=RenderState.WAITING)
        resume()
        row = self.api.get(f"{self.path}/deliverables").json()[0]["render"]
        self.assertEqual((row["id"], row["state"], row["frames"][0]["state"]), (render["id"], "done", "done"))

    def test_a_fault_of_the_server_ends_a_render_instead_of_leaving_it_open(self) -> None:
        deliverable = self.make()
        with mock.patch("deliveries.services.render_output", side_effect=ZeroDivisionError):
            answer = self.api.post(f"{self.path}/deliverables/{deliverable['id']}/renders")
        self.assertEqual(answer.status_code, 500)
        row = self.api.get(f"{self.path}/deliverables").json()[0]["render"]
        self.assertEqual((row["state"], row["frames"][0]["error"]["code"]), ("failed", "internal"))
        self.assertEqual(self.render(deliverable)["state"], "done")
