"""Importing: files kept, unpacked, named, refused when broken, taken up again after a stop."""

from __future__ import annotations

import os
import shutil
import tempfile
from io import BytesIO
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.conf import settings
from django.test import override_settings
from PIL import Image
from PIL.PngImagePlugin import PngInfo
from server_support import ServerTest, exr_bytes, plate

from jobs import chores
from jobs.services import resume
from nexal.errors import DiskError, FormatError
from nexal.formats.store import LOCKS, fingerprint
from sources.models import Source, SourceState
from sources.services import library, stored


class Imports(ServerTest):
    own_store = True

    def whole(self, source: int) -> dict:
        return self.api.get(f"/api/shots/{self.shot.pk}/sources/{source}").json()

    def test_an_upload_is_kept_and_unpacked(self) -> None:
        content = exr_bytes(plate() | {"depth.Z": plate()["R"]})
        row = self.upload(content=content)
        source = Source.objects.get(pk=row["id"])
        self.assertEqual(source.state, SourceState.READY)
        self.assertEqual(Path(source.original.path).read_bytes(), content)
        self.assertEqual(source.fingerprint, fingerprint(Path(source.original.path)))
        whole = self.whole(row["id"])
        self.assertEqual([channel["name"] for channel in whole["channel_rows"]], ["R", "G", "B", "depth.Z"])
        self.assertEqual([layer["role"] for layer in whole["layers"]], ["colour", "depth"])
        self.assertLessEqual({layer["role"] for layer in whole["layers"]} | {"mask"}, set(whole["roles"]))
        report = whole["channel_rows"][0]["report"]
        self.assertAlmostEqual(report["max"], 0.8, 3)
        self.assertEqual(sum(report["histogram"]["counts"]), 64 * 48)

    def test_names_never_repeat_and_never_lead_out_of_the_folder(self) -> None:
        names = [self.upload(name)["files"] for name in ("moth.exr", "moth.exr", "../../etc/mo;th.exr", "...")]
        self.assertEqual(names, ["moth.exr", "moth_2.exr", "mo_th.exr", "picture"])
        media = Path(Source.objects.first().original.storage.location)
        for source in Source.objects.all():
            self.assertTrue(Path(source.original.path).resolve().is_relative_to(media.resolve()))

    def test_broken_files_are_told_and_the_server_goes_on(self) -> None:
        whole = exr_bytes(plate())
        for name, content in (
            ("empty.exr", b""),
            ("text.exr", b"not a picture"),
            ("half.exr", whole[: len(whole) // 2]),
        ):
            with self.subTest(name):
                answer = self.api.upload(self.shot.pk, name, content)
                if not content:
                    # Django's form parser may refuse an empty file by itself.
                    self.assertIn(answer.status_code, (200, 422))
                    continue
                row = self.whole(answer.json()["id"])
                self.assertEqual(row["state"], "failed")
                self.assertEqual(row["problem"]["where"], name)
                self.assertTrue(row["problem"]["message"] and row["problem"]["remedy"])
        self.assertEqual(self.upload()["state"], "ready")

    @override_settings(NEXAL_UPLOAD_BYTES=100)
    def test_too_large_a_file_is_refused(self) -> None:
        answer = self.api.upload(self.shot.pk, "large.exr", bytes(101))
        self.assertEqual((answer.status_code, answer.json()["code"]), (413, "too_large"))

    def seen(self, name: str = "moth.exr") -> Any:
        recipe = {"nexal": 1, "sources": {"moth": {"files": name}}}
        return self.api.post(f"/api/shots/{self.shot.pk}/view", {"recipe": recipe, "address": "moth", "scale": 8})

    def test_what_the_store_dropped_is_unpacked_again_when_it_is_asked_for(self) -> None:
        source = Source.objects.get(pk=self.upload()["id"])
        before = self.seen().content
        library().close()
        shutil.rmtree(stored(source).folder)
        resume()
        self.assertFalse(stored(source).complete)
        self.assertEqual(self.seen().content, before)
        self.assertTrue(stored(source).complete)
        self.assertEqual(Source.objects.get(pk=source.pk).state, SourceState.READY)

    def test_until_then_its_row_and_every_view_say_that_it_is_being_unpacked(self) -> None:
        source = Source.objects.get(pk=self.upload()["id"])
        library().close()
        shutil.rmtree(stored(source).folder)
        with mock.patch("sources.services.jobs.submit") as submitted:
            for _ in range(3):
                problem = self.seen().json()
        self.assertEqual(submitted.call_count, 1)
        self.assertEqual((problem["where"], problem["message"]), ("source 'moth'", "is being unpacked"))
        self.assertEqual(self.whole(source.pk)["state"], "waiting")

    def test_an_import_that_was_cut_off_is_taken_up(self) -> None:
        source = Source.objects.get(pk=self.upload()["id"])
        (stored(source).folder / "complete").unlink()
        Source.objects.update(state=SourceState.READING)
        resume()
        self.assertEqual(Source.objects.get(pk=source.pk).state, SourceState.READY)
        self.assertTrue(stored(source).complete)

    def test_the_store_keeps_its_budget_and_what_was_used_last(self) -> None:
        sizes = {}
        for number, name in enumerate(("a.exr", "b.exr", "c.exr")):
            source = Source.objects.get(pk=self.upload(name, exr_bytes(plate(32 + number, 32)))["id"])
            os.utime(stored(source).folder, (number + 1, number + 1))
            sizes[name] = sum(file.stat().st_size for file in stored(source).folder.iterdir())
        library().close()
        library().budget = sizes["a.exr"] + sizes["c.exr"]
        library().in_use_seconds = 0
        self.assertEqual(self.seen("a.exr").status_code, 200)
        library().trim()
        kept = {row.files: stored(row).complete for row in Source.objects.all()}
        self.assertEqual(kept, {"a.exr": True, "b.exr": False, "c.exr": True})

    def test_the_same_file_twice_is_unpacked_once(self) -> None:
        a, b = self.upload("a.exr"), self.upload("b.exr")
        self.assertEqual(a["fingerprint"], b["fingerprint"])
        self.assertEqual(len(list(library().folder.glob("*/header.json"))), 1)

    def test_a_fault_of_the_server_ends_an_import_instead_of_leaving_it_open(self) -> None:
        with mock.patch("nexal.formats.store.decode_file", side_effect=PermissionError):
            answer = self.api.upload(self.shot.pk, "moth.exr", exr_bytes(plate()))
        self.assertEqual(answer.status_code, 500)
        row = self.api.get(f"/api/shots/{self.shot.pk}/sources").json()[0]
        self.assertEqual((row["state"], row["problem"]["code"]), ("failed", "internal"))

    def test_what_has_no_room_waits_for_it_and_is_not_blamed(self) -> None:
        full = DiskError("cannot be unpacked", needed=5_000_000)
        with mock.patch("nexal.formats.store.decode_file", side_effect=full):
            row = self.upload()
        self.assertEqual((row["state"], row["problem"]["code"]), ("waiting", "disk"))
        self.assertIn("5 MB", row["problem"]["message"])
        resume()
        row = self.whole(row["id"])
        self.assertEqual((row["state"], row["problem"]), ("ready", None))

    def test_what_failed_is_tried_again(self) -> None:
        with mock.patch("nexal.formats.store.decode_file", side_effect=FormatError("is damaged")):
            row = self.upload()
        self.assertEqual(row["state"], "failed")
        path = f"/api/shots/{self.shot.pk}/sources/{row['id']}/again"
        self.assertEqual(self.api.post(path, {}).json()["state"], "ready")
        self.assertEqual(self.api.post(path, {}).json()["state"], "ready")

    def test_texts_of_any_encoding_and_size_come_in(self) -> None:
        info = PngInfo()
        info.add_text("Author", "Am\xe9lie")
        info.add_text("Comment", "x" * 300_000)
        file = BytesIO()
        Image.fromarray(np.zeros((4, 4, 3), np.uint8)).save(file, "png", pnginfo=info)
        row = self.whole(self.upload("moth.png", file.getvalue())["id"])
        self.assertEqual(row["state"], "ready")
        self.assertIn("Am\xe9lie", row["metadata"].values())
        self.assertLess(max(len(str(value)) for value in row["metadata"].values()), 5_000)

    def test_names_that_the_database_takes_for_one(self) -> None:
        names = [self.upload(name)["files"] for name in ("moth.exr", "MOTH.exr", "m\xf6th.exr")]
        self.assertEqual(names, ["moth.exr", "MOTH_2.exr", "m\xf6th_3.exr"])

    def test_a_name_that_somebody_took_meanwhile_is_found_anew_and_no_file_is_left(self) -> None:
        self.upload("moth.exr")
        # Both looked before either wrote.
        with mock.patch("sources.services.free_name", side_effect=["moth.exr", "moth.exr", "moth_2.exr"]):
            self.assertEqual(self.upload("moth.exr")["files"], "moth_2.exr")
        with mock.patch("sources.services.free_name", return_value="moth.exr"):
            answer = self.api.upload(self.shot.pk, "moth.exr", exr_bytes(plate()))
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "name_taken"))
        folder = Path(Source.objects.first().original.path).parent
        self.assertEqual(len(list(folder.iterdir())), Source.objects.count())

    def test_ten_uploads_of_one_name_give_ten_sources(self) -> None:
        rows = [self.upload("moth.exr") for _ in range(10)]
        self.assertEqual(len({row["files"] for row in rows}), 10)

    def test_a_source_that_is_not_read_is_deleted_with_its_file(self) -> None:
        source = Source.objects.get(pk=self.upload()["id"])
        self.save(self.story())
        path = f"/api/shots/{self.shot.pk}/sources/{source.pk}"
        refused = self.api.send("DELETE", path)
        self.assertEqual((refused.status_code, refused.json()["code"]), (409, "in_use"))
        self.save({"nexal": 1})
        self.assertEqual(self.api.send("DELETE", path).status_code, 204)
        self.assertFalse(Path(source.original.path).exists())
        self.assertEqual(self.api.get(f"/api/shots/{self.shot.pk}/sources").json(), [])
        # Earlier revisions are still there, and say what they lack.
        self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 3})
        self.assertIn("import its file", self.seen("moth.exr").json()["remedy"])

    def test_a_name_is_never_used_again_so_that_earlier_revisions_read_nothing_else(self) -> None:
        path = f"/api/shots/{self.shot.pk}"
        row = self.upload("moth.exr")
        self.save({"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}})
        self.save({"nexal": 1})
        self.assertEqual(self.api.send("DELETE", f"{path}/sources/{row['id']}").status_code, 204)
        # Another file of that name, or one that the database takes for it: another source.
        self.assertEqual(self.upload("moth.exr")["files"], "moth_2.exr")
        self.assertEqual(self.upload("MOTH.exr")["files"], "MOTH_3.exr")
        old = self.shot.revisions.get(number=2).recipe
        answer = self.api.post(f"{path}/view", {"recipe": old, "address": "moth"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("is not there", answer.json()["message"])
        # So it is with numbered files.
        numbered = self.api.post(f"{path}/sequences", {"files": "fern.%04d.exr"}).json()
        self.api.send("DELETE", f"{path}/sources/{numbered['id']}")
        again = self.api.post(f"{path}/sequences", {"files": "fern.%04d.exr"}).json()
        self.assertEqual(again["files"], "fern_2.%04d.exr")

    def test_room_is_looked_at_before_a_file_comes(self) -> None:
        path = f"/api/shots/{self.shot.pk}/upload-tickets"
        self.assertTrue(self.api.post(path, {"bytes": 5_000_000}).json()["ticket"])
        with mock.patch("sources.tickets.shutil.disk_usage", return_value=mock.Mock(free=300 << 20)):
            answer = self.api.post(path, {"bytes": 50_000_000})
        self.assertEqual((answer.status_code, answer.json()["code"]), (507, "disk"))
        self.assertIn("368 MB", answer.json()["message"])
        answer = self.api.post(path, {"bytes": 1 << 50})
        self.assertEqual((answer.status_code, answer.json()["code"]), (413, "too_large"))

    def test_what_killed_processes_left_is_cleared_by_age_and_nothing_else(self) -> None:
        source = Source.objects.get(pk=self.upload()["id"])
        original = Path(source.original.path)
        uploads = Path(self.enterContext(tempfile.TemporaryDirectory()))
        old = [
            uploads / "tmpabc.upload",
            original.with_name("nobody.exr"),
            library().folder / LOCKS / "digest.1-2.gone" / "c0000.npy",
            library().folder / "half" / "c0001.npy.1-2.part",
        ]
        young = [original.with_name("coming.exr"), uploads / "tmpdef.upload"]
        for path in [*old, *young]:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x")
        (library().folder / LOCKS / "half.making").touch()
        for path in [*old, original]:
            os.utime(path, (1, 1))
        with override_settings(FILE_UPLOAD_TEMP_DIR=uploads):
            chores.run_all()
        self.assertEqual([path.exists() for path in old], [False] * 4)
        self.assertEqual([path.exists() for path in [*young, original]], [True] * 3)
        self.assertTrue(stored(source).complete)

    def test_a_full_disk_is_told(self) -> None:
        full = OSError(28, "No space left on device")
        with mock.patch("django.core.files.storage.FileSystemStorage._save", side_effect=full):
            answer = self.api.upload(self.shot.pk, "moth.exr", exr_bytes(plate()))
        self.assertEqual((answer.status_code, answer.json()["code"]), (507, "disk"))
        with mock.patch("sources.services.fingerprint", side_effect=full):
            self.assertEqual(self.api.upload(self.shot.pk, "moth.exr", exr_bytes(plate())).status_code, 507)
        self.assertEqual(Source.objects.count(), 0)
        self.assertEqual(list(Path(settings.MEDIA_ROOT).glob("originals/*/*")), [])
