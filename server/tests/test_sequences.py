"""Sources of many frames, and renders of ranges."""

from __future__ import annotations

import io
import tempfile
import zipfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from importlib import import_module
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from core_support import workers_by_hand
from django.apps import apps
from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import TransactionTestCase, override_settings
from server_support import Served, ServerTest, exr_bytes, planes_of

from deliveries import scheduled
from deliveries import services as deliveries
from deliveries.models import Render, RenderedFrame, RenderState
from jobs.models import Job
from jobs.services import Later
from nexal.errors import DiskError
from sources import sequences
from sources import services as sources
from sources.models import Source, SourceFrame, SourceState


def frame_bytes(number: int, **more: np.ndarray) -> bytes:
    """A small picture whose red is its number / 64."""
    return exr_bytes({name: np.full((12, 16), number / 64, np.float16) for name in "RGB"} | more)


class SequenceTest(ServerTest):
    own_store = True

    def setUp(self) -> None:
        super().setUp()
        self.path = f"/api/shots/{self.shot.pk}"

    def started(self, pattern: str = "moth.%04d.exr") -> dict[str, Any]:
        answer = self.api.post(f"{self.path}/sequences", {"files": pattern})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def add(self, source: int, number: int, content: bytes | None = None, **more: int) -> Any:
        file = SimpleUploadedFile(f"x.{number}.exr", frame_bytes(number) if content is None else content)
        return self.api.client.post(f"{self.path}/sources/{source}/frames", {"number": number, "file": file} | more)

    def sequence(self, *numbers: int) -> dict[str, Any]:
        row = self.started()
        for number in numbers:
            row = self.add(row["id"], number).json()["source"]
        return row

    def recipe(self, **spec: Any) -> dict[str, Any]:
        radius = {"keys": [[1, 0], [11, 10]]}
        return {
            "nexal": 1,
            "sources": {"moth": {"files": "moth.%04d.exr"} | spec},
            "steps": [
                {"name": "soft", "op": "blur", "in": {"from": "moth"}, "set": {"radius": radius}},
                {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "moth.R"}},
            ],
        }

    def red(self, frame: int, **ask: Any) -> float:
        answer = self.api.post(f"{self.path}/view", {"address": "moth", "frame": frame} | ask)
        self.assertEqual(answer.status_code, 200, answer.content)
        return float(planes_of(answer)["R"][0, 0] * 64)


class Sequences(SequenceTest):
    def test_numbered_files_become_one_source_with_its_range_and_gaps(self) -> None:
        row = self.sequence(3, 4, 7)
        self.assertEqual((row["files"], row["state"]), ("moth.%04d.exr", "ready"))
        self.assertEqual(row["frames"]["numbers"], [[3, 4], [7, 7]])
        self.assertEqual((row["frames"]["count"], row["frames"]["ready"], row["frames"]["failed"]), (3, 3, []))
        kept = [Path(frame.original.path) for frame in SourceFrame.objects.all()]
        self.assertEqual([path.name for path in kept], ["moth.0003.exr", "moth.0004.exr", "moth.0007.exr"])
        before = Source.objects.get().fingerprint
        self.add(row["id"], 8)
        self.assertNotEqual(Source.objects.get().fingerprint, before)

    def range(self) -> tuple[int, int]:
        row = self.api.get(self.path).json()
        return row["first_frame"], row["last_frame"]

    def test_the_range_follows_the_moving_sources_until_a_person_sets_it(self) -> None:
        row = self.sequence(5, 6, 8)
        self.upload("still.exr")
        self.assertEqual(self.range(), (1, 1))
        self.save(self.recipe())
        self.assertEqual(self.range(), (5, 8))
        self.save(self.recipe(offset=100, last=6))
        self.assertEqual(self.range(), (105, 106))
        self.save(self.recipe())
        # More frames come in.
        self.add(row["id"], 11)
        self.assertEqual(self.range(), (5, 11))
        # A second one reaches further; a still counts for nothing.
        two = self.recipe()
        two["sources"] |= {"again": {"files": "moth.%04d.exr", "offset": -4}, "still": {"files": "still.exr"}}
        self.save(two)
        self.assertEqual(self.range(), (1, 11))
        # It goes with the sequence: what is left is a still.
        # One whose file nobody has chosen yet counts for nothing either.
        without = {"nexal": 1, "sources": {"still": {"files": "still.exr"}, "none": {}}}
        self.save(without)
        self.assertEqual(self.range(), (1, 1))
        self.api.post(f"{self.path}/undo", {"head": self.api.get(self.path).json()["head"]["number"]})
        self.assertEqual(self.range(), (1, 11))
        self.api.put(f"{self.path}/range", {"first": 2, "last": 3})
        self.save(self.recipe())
        self.assertEqual(self.range(), (2, 3))
        self.api.delete(f"{self.path}/range")
        self.assertEqual(self.range(), (5, 11))

    def test_each_frame_is_seen_and_what_stands_for_others_is_as_the_recipe_says(self) -> None:
        self.sequence(3, 4, 7)
        self.save(self.recipe())
        self.assertEqual([self.red(frame) for frame in (1, 3, 4, 5, 7, 9)], [3, 3, 4, 4, 7, 7])
        loop = self.recipe(after="loop", missing="black", offset=10)
        self.assertEqual([self.red(frame, recipe=loop) for frame in (13, 15, 17, 18, 19)], [3, 0, 7, 3, 4])
        strict = self.recipe(missing="error")
        answer = self.api.post(f"{self.path}/view", {"recipe": strict, "address": "moth", "frame": 5})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("number 5 is missing", answer.json()["message"])

    def test_a_damaged_frame_is_told_and_the_others_are_usable(self) -> None:
        row = self.started()
        for number in (1, 2, 3):
            content = frame_bytes(number)
            row = self.add(row["id"], number, content[: len(content) // 2] if number == 2 else content).json()["source"]
        self.assertEqual((row["state"], row["frames"]["ready"]), ("ready", 2))
        (failed,) = row["frames"]["failed"]
        self.assertEqual((failed["number"], failed["problem"]["where"]), (2, "frame 2"))
        self.save(self.recipe())
        self.assertEqual((self.red(1), self.red(3)), (1, 3))
        answer = self.api.post(f"{self.path}/view", {"address": "moth", "frame": 2})
        self.assertIn("in its frame 2", answer.json()["message"])
        # Mended on the disk, it is tried again by itself.
        frame = SourceFrame.objects.get(number=2)
        Path(frame.original.path).write_bytes(frame_bytes(2))
        answer = self.api.post(f"{self.path}/sources/{row['id']}/again")
        self.assertEqual(answer.json()["frames"]["ready"], 3)

    def test_frames_may_differ_in_what_they_hold(self) -> None:
        row = self.sequence(1)
        self.add(row["id"], 2, frame_bytes(2, **{"depth.Z": np.full((12, 16), 5, np.float32)}))
        self.save(self.recipe())
        answer = self.api.post(f"{self.path}/view", {"address": "moth.depth", "frame": 1})
        self.assertIn("in its frame 1", answer.json()["message"])
        answer = self.api.post(f"{self.path}/view", {"address": "moth.depth", "frame": 2})
        self.assertEqual(answer.status_code, 200)
        whole = self.api.get(f"{self.path}/sources/{row['id']}?frame=2").json()
        self.assertEqual([channel["name"] for channel in whole["channel_rows"]][-1], "depth.Z")
        self.assertGreater(whole["channel_rows"][0]["report"]["max"], 0)

    def test_numbers_that_are_there_and_names_that_are_none_are_refused(self) -> None:
        row = self.sequence(1, 2)
        self.assertEqual(self.add(row["id"], 2).json()["taken"], "equal")
        self.assertEqual(len(list(Path(SourceFrame.objects.first().original.path).parent.iterdir())), 2)
        for name in ("moth.exr", "%04d", "moth.%0099d.exr", "moth.%s.exr"):
            with self.subTest(name):
                self.assertEqual(self.api.post(f"{self.path}/sequences", {"files": name}).status_code, 422)
        self.assertEqual(self.started()["files"], "moth_2.%04d.exr")
        self.assertEqual(self.started("../../mo;th %d.png")["files"], "mo_th_%d.png")
        single = self.upload("leaf.exr")
        self.assertEqual(self.add(single["id"], 3).status_code, 422)

    def test_an_import_that_was_cut_off_goes_on_with_what_is_left(self) -> None:
        with mock.patch("sources.sequences.jobs.submit"):
            row = self.sequence(1, 2, 3, 4)
        SourceFrame.objects.filter(number=1).update(state=SourceState.READING)
        self.assertEqual(sources.unfinished(), [row["id"]])
        sources.unpack(row["id"])
        self.assertEqual(set(SourceFrame.objects.values_list("state", flat=True)), {SourceState.READY})
        self.assertEqual((sources.unfinished(), Source.objects.get().state), ([], SourceState.READY))
        # What the store dropped comes back when it is looked at.
        self.save(self.recipe())
        library = sources.library()
        digest = SourceFrame.objects.get(number=3).fingerprint
        library.close()
        self.assertTrue(library._drop(digest))
        self.red(2)
        self.assertFalse(library.stored(digest).complete)
        self.assertEqual(self.red(3), 3)

    def test_without_room_it_waits(self) -> None:
        with mock.patch("sources.sequences.jobs.submit"):
            row = self.sequence(1)
        with mock.patch("nexal.formats.store.decode_file", side_effect=DiskError("full")), self.assertRaises(Later):
            sources.unpack(row["id"])
        self.assertEqual(SourceFrame.objects.get().state, SourceState.WAITING)
        sources.unpack(row["id"])
        self.assertEqual(SourceFrame.objects.get().state, SourceState.READY)

    def test_a_sequence_that_the_recipe_does_not_read_goes_with_its_files(self) -> None:
        row = self.sequence(1, 2)
        files = [Path(frame.original.path) for frame in SourceFrame.objects.all()]
        self.save(self.recipe())
        self.assertEqual(self.api.send("DELETE", f"{self.path}/sources/{row['id']}").status_code, 409)
        self.save({"nexal": 1})
        self.assertEqual(self.api.send("DELETE", f"{self.path}/sources/{row['id']}").status_code, 204)
        self.assertEqual([file for file in files if file.exists()], [])


class Versions(SequenceTest):
    """A repaired frame comes back in."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.sequence(1, 2, 3)["id"]
        self.save(self.recipe())

    def row(self) -> dict[str, Any]:
        return next(row for row in self.api.get(f"{self.path}/sources").json() if row["id"] == self.source)

    def test_what_differs_is_a_new_version_and_what_was_there_stays_with_its_revisions(self) -> None:
        taken = [self.add(self.source, number, frame_bytes(other), into=2).json()["taken"] for number, other in
                 ((1, 1), (2, 20), (3, 30), (4, 4))]  # fmt: skip
        self.assertEqual(taken, ["equal", "differs", "differs", "new"])
        frames = self.row()["frames"]
        self.assertEqual((frames["version"], frames["versions"]), (2, [{"version": 2, "numbers": [[2, 3]]}]))
        self.assertEqual((frames["numbers"], frames["count"], frames["ready"]), ([[1, 4]], 4, 4))
        # The recipe that stands reads what it read; new frames are in all versions.
        self.assertEqual([self.red(frame) for frame in (1, 2, 3, 4)], [1, 2, 3, 4])
        newest = self.recipe(version=2)
        self.assertEqual([self.red(frame, recipe=newest) for frame in (1, 2, 3, 4)], [1, 20, 30, 4])
        # Once more, and by itself: a version of its own.
        self.assertEqual(self.add(self.source, 2, frame_bytes(21)).json()["taken"], "differs")
        self.assertEqual(self.row()["frames"]["version"], 3)
        self.assertEqual([self.red(2, recipe=self.recipe(version=v)) for v in (1, 2, 3, 9)], [2, 20, 21, 21])
        # Into a version that has one of this number already nothing goes: that one stays as it is.
        self.add(self.source, 2, frame_bytes(22), into=3)
        self.assertEqual([self.red(2, recipe=self.recipe(version=v)) for v in (3, 4)], [21, 22])

    def test_a_frame_that_was_damaged_is_put_right(self) -> None:
        self.add(self.source, 4, b"no picture at all")
        self.assertEqual([each["number"] for each in self.row()["frames"]["failed"]], [4])
        self.assertEqual(self.add(self.source, 4, frame_bytes(4)).json()["taken"], "differs")
        frames = self.row()["frames"]
        self.assertEqual((frames["failed"], frames["ready"]), ([], 4))
        self.assertEqual(self.red(4, recipe=self.recipe(version=2)), 4)

    def test_the_server_writes_the_version_into_a_revision(self) -> None:
        self.add(self.source, 2, frame_bytes(20))
        # What was read stays read until somebody takes the newer frames.
        after = self.save(self.recipe(offset=1)).json()
        self.assertNotIn("version", after["recipe"]["sources"]["moth"])
        again = self.recipe()
        again["sources"]["moths"] = {"files": "moth.%04d.exr"}
        self.assertEqual(self.save(again).json()["recipe"]["sources"]["moths"]["version"], 2)
        # What names its version keeps it, and an older page that knows of none changes none.
        older = self.save(again | {"steps": []}).json()
        self.assertEqual(older["recipe"]["sources"]["moths"]["version"], 2)
        self.assertNotIn("version", older["recipe"]["sources"]["moth"])

    def test_an_older_revision_is_gone_back_to_with_its_frames(self) -> None:
        self.add(self.source, 2, frame_bytes(20))
        self.save(self.recipe(version=2))
        self.assertEqual(self.red(2), 20)
        self.api.post(f"{self.path}/undo", {"head": self.head()})
        self.assertEqual(self.red(2), 2)

    def test_an_earlier_revision_that_is_restored_reads_the_frames_that_it_read(self) -> None:
        first = self.head()
        self.add(self.source, 2, frame_bytes(20))
        self.save(self.recipe(version=2))
        body = {"parent": self.head(), "recipe": self.recipe(), "restores": first}
        restored = self.api.post(f"{self.path}/revisions", body).json()
        self.assertIn(f"Revision {first}", restored["sentence"])
        self.assertEqual(self.red(2), 2)
        # Who wants the first frames says so.
        self.save(self.recipe(version=2))
        self.assertEqual(self.save(self.recipe(version=1)).json()["recipe"]["sources"]["moth"]["version"], 1)
        self.assertEqual(self.red(2), 2)

    def head(self) -> int:
        return int(self.api.get(self.path).json()["head"]["number"])

    def test_of_what_was_delivered_only_older_frames_are_made_again(self) -> None:
        spec = {"from": "soft", "file": "soft.%04d.exr"}
        made = self.api.post(f"{self.path}/deliverables", {"name": "soft", "spec": spec}).json()
        path = f"{self.path}/deliverables/{made['id']}/renders"
        first = self.api.post(path, {"first": 1, "last": 3}).json()
        self.assertEqual([frame["older"] for frame in first["frames"]], [False] * 3)
        self.add(self.source, 2, frame_bytes(20))
        self.assertFalse(any(frame["older"] for frame in self.newest()["frames"]), "the shot reads what it read")
        self.save(self.recipe(version=2))
        self.assertEqual([frame["older"] for frame in self.newest()["frames"]], [False, True, False])
        rendered: list[int] = []
        render = deliveries._render_frame

        def counted(row: Any, frame: int) -> Any:
            rendered.append(frame)
            return render(row, frame)

        with mock.patch.object(deliveries, "_render_frame", counted):
            again = self.api.post(f"{self.path}/renders/{first['id']}", {"wish": "older"}).json()
        self.assertEqual(rendered, [2])
        self.assertNotEqual(again["id"], first["id"])
        self.assertEqual([(frame["state"], frame["kept"], frame["older"]) for frame in again["frames"]],
                         [("done", True, False)] * 3)  # fmt: skip
        before, after = (
            [frame.file for frame in RenderedFrame.objects.filter(render=each["id"])] for each in (first, again)
        )
        media = Path(settings.MEDIA_ROOT)
        same = [
            (media / old).read_bytes() == (media / new).read_bytes() for old, new in zip(before, after, strict=True)
        ]
        self.assertEqual(same, [True, False, True])

    def newest(self) -> dict[str, Any]:
        return self.api.get(f"{self.path}/deliverables").json()[0]["render"]

    def test_where_more_has_changed_more_is_made_again(self) -> None:
        spec = {"from": "soft", "file": "soft.%04d.exr"}
        made = self.api.post(f"{self.path}/deliverables", {"name": "soft", "spec": spec}).json()
        path = f"{self.path}/deliverables/{made['id']}/renders"
        first = self.api.post(path, {"first": 1, "last": 3}).json()
        self.add(self.source, 2, frame_bytes(20))
        changed = self.recipe(version=2)
        changed["steps"][0]["set"] = {"radius": 5}
        self.save(changed)
        with mock.patch.object(deliveries, "_render_frame", wraps=deliveries._render_frame) as rendered:
            self.api.post(f"{self.path}/renders/{first['id']}", {"wish": "older"})
        self.assertEqual([call.args[1] for call in rendered.call_args_list], [1, 2, 3])

    def test_versions_go_along_into_a_copy_of_the_shot(self) -> None:
        self.add(self.source, 2, frame_bytes(20))
        self.save(self.recipe(version=2))
        copy = self.api.post(f"{self.path}/copies", {"name": "a copy"}).json()
        self.path = f"/api/shots/{copy['id']}"
        self.assertEqual(self.red(2), 20)
        self.assertEqual(self.red(2, recipe=self.recipe()), 2)


class VersionsTogether(Served, TransactionTestCase):
    own_store = True

    def test_many_that_come_at_once_are_one_version(self) -> None:
        source = sequences.create(self.shot, "moth.%04d.exr")

        def added(number: int, red: int) -> str:
            try:
                content = ContentFile(frame_bytes(red), name="x.exr")
                return sequences.add_frame(Source.objects.get(pk=source.pk), number, content, into=2)
            finally:
                connection.close()

        with ThreadPoolExecutor(4) as pool:
            # Of each number twice at once, one was there first and the other is equal to it.
            first = list(pool.map(lambda number: added(number, number), (1, 2, 3, 1, 2, 3)))
            later = list(pool.map(lambda number: added(number, number + 30), (1, 2, 3)))
        self.assertEqual(sorted(first), ["equal"] * 3 + ["new"] * 3)
        self.assertEqual(later, ["differs"] * 3)
        source.refresh_from_db()
        self.assertEqual(source.version, 2)
        self.assertEqual(
            list(source.frames.values_list("number", "version")), [(n, v) for n in (1, 2, 3) for v in (1, 2)]
        )


class InTime(SequenceTest):
    def test_what_an_outline_holds_is_followed_and_a_matte_is_judged(self) -> None:
        row = self.started()
        base = np.random.default_rng(1).random((120, 160)).astype(np.float32)
        for number in range(1, 5):
            # It goes 3 px to the right and 2 px down with each frame.
            seen = np.roll(base, (2 * number, 3 * number), axis=(0, 1))
            picture = {name: seen.astype(np.float16) for name in "RGB"}
            self.add(row["id"], number, exr_bytes(picture | {"A": np.full((120, 160), number / 8, np.float16)}))
        self.save(self.recipe())
        outline = [[40, 30], [110, 30], [110, 90], [40, 90]]
        ask = {"address": "moth", "outline": outline, "start": 1, "frames": [2, 3], "model": "shift"}
        rows = self.api.post(f"{self.path}/follow", ask).json()
        for found, by in zip(rows, (1, 2), strict=True):
            np.testing.assert_allclose(np.array(found["matrix"]).reshape(3, 3)[:2, 2], (3 * by, 2 * by), atol=0.1)
            self.assertGreater(found["sure"], 0.7)
        # The next frames go on from there, against the start.
        more = self.api.post(f"{self.path}/follow", ask | {"frames": [4], "before": rows[-1]["matrix"]}).json()
        np.testing.assert_allclose(np.array(more[0]["matrix"]).reshape(3, 3)[:2, 2], (9, 6), atol=0.1)
        answer = self.api.post(f"{self.path}/follow", ask | {"outline": [[0, 0], [2, 0], [0, 2]]})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("too little", answer.json()["message"])
        steady = self.api.post(f"{self.path}/steady", {"address": "moth.A", "frames": [1, 2, 3]}).json()
        self.assertEqual([each["coverage"] for each in steady], [1 / 8, 2 / 8, 3 / 8])
        self.assertIsNone(steady[0]["change"])
        told = self.api.post(f"{self.path}/steadiness", {"rows": steady}).json()
        self.assertEqual(
            told["verdicts"], [None, *["cannot_tell" if row["judged"] < 0.2 else "flickers" for row in steady[1:]]]
        )
        self.assertEqual(self.api.post(f"{self.path}/steadiness", {"rows": []}).status_code, 422)


def video_bytes(
    frames: int = 6,
    codec: str = "ffv1",
    pixels: str = "gbrp16le",
    suffix: str = ".mkv",
    times: Sequence[int] | None = None,
) -> bytes:
    """A small video, written with FFmpeg's libraries directly; red is the number of its frame / 64."""
    times = range(frames) if times is None else times
    import av

    with tempfile.NamedTemporaryFile(suffix=suffix) as file:
        with av.open(file.name, "w") as container:
            stream = container.add_stream(codec, rate=25)
            stream.width, stream.height, stream.pix_fmt = 32, 24, pixels
            for number, time in enumerate(times, 1):
                seen = np.zeros((24, 32, 3), np.uint16)
                seen[..., 0] = round(number / 64 * 65535)
                frame = av.VideoFrame.from_ndarray(seen, format="rgb48le")
                frame.pts = time
                for packet in stream.encode(frame):
                    container.mux(packet)
            for packet in stream.encode():
                container.mux(packet)
        return Path(file.name).read_bytes()


class Videos(SequenceTest):
    def red(self, frame: int, **ask: Any) -> float:
        data = {"nexal": 1, "sources": {"clip": {"files": "clip.mkv", "colour": "data"} | ask}}
        answer = self.api.post(f"{self.path}/view", {"address": "clip", "frame": frame, "recipe": data})
        self.assertEqual(answer.status_code, 200, answer.content)
        return float(planes_of(answer)["R"][0, 0] * 64)

    def test_a_video_is_a_source_of_its_frames(self) -> None:
        row = self.upload("clip.mkv", video_bytes())
        self.assertEqual((row["state"], row["frames"]["numbers"], row["frames"]["rate"]), ("ready", [[1, 6]], 25))
        for frame in (4, 1, 6, 2):
            self.assertAlmostEqual(self.red(frame), frame, delta=0.01)
        self.assertAlmostEqual(self.red(8, after="loop"), 2, delta=0.01)
        # What the store dropped is decoded again, from that frame on.
        library = sources.library()
        digest = SourceFrame.objects.get(number=5).fingerprint
        library.close()
        self.assertTrue(library._drop(digest))
        self.assertAlmostEqual(self.red(5), 5, delta=0.01)
        whole = self.api.get(f"{self.path}/sources/{row['id']}").json()
        self.assertEqual((whole["format"], whole["metadata"]["frames a second"]), ("video", 25))
        self.assertEqual(self.add(row["id"], 7).status_code, 422)
        self.assertEqual(self.api.send("DELETE", f"{self.path}/sources/{row['id']}").status_code, 204)

    def test_of_a_rate_that_varies_each_frame_is_at_the_number_of_its_time(self) -> None:
        row = self.upload("clip.mkv", video_bytes(times=[0, 1, 4, 5]))
        frames = row["frames"]
        self.assertEqual((frames["numbers"], frames["count"], frames["rate"]), ([[1, 2], [5, 6]], 4, 25))
        self.assertIn("its rate varies; it has 4 frames", row["warnings"][0])
        np.testing.assert_allclose([self.red(frame) for frame in range(1, 7)], [1, 2, 2, 2, 3, 4], atol=0.01)

    def test_one_of_before_is_counted_anew(self) -> None:
        row = self.upload("clip.mkv", video_bytes(times=[0, 1, 4, 5]))
        still = self.upload("leaf.exr")
        # As it was counted: made even by time.
        for number in (3, 4):
            SourceFrame.objects.create(source_id=row["id"], number=number, size=0, fingerprint=f"x-{number}")
        import_module("sources.migrations.0009_count_videos").count_anew(apps, None)
        self.assertIn(row["id"], sources.unfinished())
        self.assertNotIn(still["id"], sources.unfinished())
        sources.unpack(row["id"])
        numbers = SourceFrame.objects.filter(source=row["id"]).values_list("number", "state")
        self.assertEqual(list(numbers), [(number, "ready") for number in (1, 2, 5, 6)])

    def test_one_that_is_cut_short_is_told_and_what_is_there_is_usable(self) -> None:
        content = video_bytes(40)
        row = self.upload("clip.mkv", content[: len(content) * 2 // 3])
        self.assertEqual(row["state"], "ready")
        self.assertGreater(row["frames"]["ready"], 10)
        self.assertLess(row["frames"]["ready"], 40)
        self.assertAlmostEqual(self.red(5), 5, delta=0.01)
        broken = self.upload("bad.mp4", b"no video at all" * 50)
        self.assertEqual(broken["state"], "failed")
        self.assertIn("cannot be read as a video", broken["problem"]["message"])
        self.assertEqual(sources.unfinished(), [])


class Ranges(SequenceTest):
    def deliverable(self, file: str = "soft.%03d.exr", of: str = "soft") -> int:
        self.sequence(1, 2, 3, 5)
        self.save(self.recipe())
        answer = self.api.post(f"{self.path}/deliverables", {"name": "soft", "spec": {"from": of, "file": file}})
        return answer.json()["id"]

    def render(self, deliverable: int, **ask: Any) -> Any:
        return self.api.post(f"{self.path}/deliverables/{deliverable}/renders", ask)

    def file(self, name: str) -> Path:
        return Path(settings.MEDIA_ROOT) / name

    def test_by_the_workers_of_a_scheduler(self) -> None:
        found = self.deliverable()
        self.save(self.recipe(after="black", missing="error"))
        here = self.render(found, first=1, last=6).json()
        with tempfile.TemporaryDirectory() as folder:
            address = workers_by_hand(self, Path(folder), 2)
            with override_settings(NEXAL_SCHEDULER=address):
                there = self.render(found, first=1, last=6).json()
        states = [(frame["frame"], frame["state"], frame["file"]) for frame in here["frames"]]
        self.assertEqual([(frame["frame"], frame["state"], frame["file"]) for frame in there["frames"]], states)
        self.assertEqual([state for _, state, _ in states], ["done", "done", "done", "failed", "done", "done"])
        self.assertIn("number 4 is missing", there["frames"][3]["error"]["message"])
        files = [
            [path.read_bytes() for _, path in deliveries.files_of(Render.objects.get(pk=row["id"]))]
            for row in (here, there)
        ]
        self.assertEqual(len(files[0]), 5)
        self.assertEqual(files[0], files[1])
        with override_settings(NEXAL_SCHEDULER="tcp://127.0.0.1:9"):
            row = self.render(found, first=1, last=2).json()
        self.assertEqual(row["state"], "failed")
        self.assertIn("does not answer", row["frames"][0]["error"]["message"])

    def test_many_frames_go_to_workers_of_its_own_which_end_when_nobody_needs_them(self) -> None:
        import distributed

        found = self.deliverable()
        self.save(self.recipe(after="hold", missing="hold"))
        made: list[Any] = []

        def cluster() -> Any:
            # In threads: tests that run side by side may not have processes.
            made.append(
                distributed.LocalCluster(
                    n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None, protocol="tcp"
                )
            )
            self.addCleanup(made[-1].close)
            return made[-1]

        own = scheduled._Own()
        with (
            override_settings(NEXAL_SCHEDULER=scheduled.LOCAL),
            mock.patch.object(scheduled, "_made", cluster),
            mock.patch.object(scheduled, "_own", own),
        ):
            few = self.render(found, first=1, last=2).json()
            self.assertEqual(made, [])
            rows = [self.render(found, first=1, last=9).json() for _ in range(2)]
            self.assertEqual(len(made), 1, "the second render uses the same workers")
            with own.address():
                own.close()
                self.assertEqual(made[0].status.name, "running", "somebody needs them")
            own.close()
            self.assertEqual(made[0].status.name, "closed")
            self.render(found, first=1, last=9)
            self.assertEqual(len(made), 2)
        for row in (few, *rows):
            self.assertEqual({frame["state"] for frame in row["frames"]}, {"done"})

    def test_a_range_is_rendered_frame_by_frame(self) -> None:
        found = self.deliverable()
        row = self.render(found, first=1, last=5, step=2).json()
        self.assertEqual(
            [(frame["frame"], frame["state"]) for frame in row["frames"]], [(n, "done") for n in (1, 3, 5)]
        )
        self.assertEqual([frame["file"] for frame in row["frames"]], ["soft.001.exr", "soft.003.exr", "soft.005.exr"])
        answer = self.api.get(f"{self.path}/renders/{row['id']}/files")
        with zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content))) as archive:
            self.assertEqual(archive.namelist(), ["soft.001.exr", "soft.003.exr", "soft.005.exr"])
        answer = self.api.get(f"{self.path}/renders/{row['id']}/file?frame=5")
        self.assertIn("soft.005.exr", answer["Content-Disposition"])
        self.assertEqual(self.api.get(f"{self.path}/renders/{row['id']}/file?frame=4").status_code, 404)

    def test_without_a_range_it_is_the_shot_s(self) -> None:
        found = self.deliverable()
        self.assertEqual(self.api.send("PUT", f"{self.path}/range", {"first": 3, "last": 2}).status_code, 422)
        self.api.send("PUT", f"{self.path}/range", {"first": 2, "last": 3})
        self.assertEqual([frame["frame"] for frame in self.render(found).json()["frames"]], [2, 3])

    def test_ranges_that_make_no_sense_are_refused(self) -> None:
        found = self.deliverable("soft.exr")
        for ask, words in (
            ({"first": 5, "last": 1}, "are none"),
            ({"first": 1, "last": 5}, "one file"),
            ({"first": 1, "last": 10**6}, "at the most"),
        ):
            with self.subTest(words):
                answer = self.render(found, **ask)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, f"{answer.json()['message']} {answer.json()['remedy']}")
        self.assertEqual(self.render(found, first=5, last=5).json()["frames"][0]["file"], "soft.exr")

    def test_a_failed_frame_says_why_and_is_made_again_alone(self) -> None:
        found = self.deliverable()
        self.save(self.recipe(missing="error"))
        row = self.render(found, first=3, last=5).json()
        self.assertEqual([frame["state"] for frame in row["frames"]], ["done", "failed", "done"])
        self.assertIn("number 4 is missing", row["frames"][1]["error"]["message"])
        self.assertEqual(row["state"], "failed")
        with mock.patch("deliveries.services._render_frame", return_value=[self.file("x")]) as rendered:
            answer = self.api.post(f"{self.path}/renders/{row['id']}", {"wish": "again", "frame": 4})
        self.assertEqual((rendered.call_count, rendered.call_args[0][1]), (1, 4))
        self.assertEqual(answer.json()["state"], "done")

    def test_pause_resume_and_cancel(self) -> None:
        found = self.deliverable()
        made: list[int] = []

        def stopping(render: Render, frame: int) -> list[Path]:
            made.append(frame)
            if frame == 2:
                deliveries.stop(render, wish)
            return [self.file("x")]

        for wish, state in (  # noqa: B007, `stopping` asks it
            (RenderState.PAUSED, "paused"),
            (RenderState.CANCELLED, "cancelled"),
        ):
            made.clear()
            with self.subTest(state), mock.patch("deliveries.services._render_frame", stopping):
                row = self.render(found, first=1, last=4).json()
                self.assertEqual((row["state"], made), (state, [1, 2]))
                self.assertEqual(deliveries.unfinished(), [], "nobody takes it up again")
                # A job that was on its way changes nothing.
                deliveries.run(row["id"])
                self.assertEqual(made, [1, 2])
                answer = self.api.post(f"{self.path}/renders/{row['id']}", {"wish": "resume"}).json()
                self.assertEqual((answer["state"], made), ("done", [1, 2, 3, 4]))

    def test_a_movie_of_the_frames_for_review(self) -> None:
        import av

        found = self.deliverable(of="moth")
        row = self.render(found, first=1, last=5).json()
        path = f"{self.path}/renders/{row['id']}/movie"
        self.assertEqual(self.api.get(path).status_code, 404)
        answer = self.api.post(path, {"rate": 25, "numbers": False}).json()
        self.assertEqual((answer["movie"]["state"], answer["movie"]["problem"]), ("done", None))
        with tempfile.NamedTemporaryFile(suffix=".webm") as file:
            file.write(b"".join(self.api.get(path).streaming_content))
            file.flush()
            with av.open(file.name) as container:
                self.assertEqual(container.streams.video[0].average_rate, 25)
                seen = [frame.to_ndarray(format="rgb24")[6, 8, 0] for frame in container.decode(video=0)]
        light = [min(number, 4) / 64 if number != 5 else 5 / 64 for number in (1, 2, 3, 4, 5)]
        light[3] = 3 / 64
        codes = [255 * (1.055 * value ** (1 / 2.4) - 0.055) for value in light]
        np.testing.assert_allclose(seen, codes, atol=6)
        self.assertEqual(self.api.post(path, {"rate": 0}).status_code, 422)
        self.assertEqual(deliveries.unfinished(), [])

    def test_what_was_cut_off_goes_on_with_every_frame_once(self) -> None:
        found = self.deliverable()
        made: list[int] = []

        def killed(render: Render, frame: int) -> list[Path]:
            made.append(frame)
            if frame == 3 and made.count(3) == 1:
                raise SystemExit
            return [self.file(f"{frame}")]

        with mock.patch("deliveries.services._render_frame", killed):
            with self.assertRaises(SystemExit):
                deliveries.start(deliveries.Deliverable.objects.get(pk=found), None, 1, 5)
            (render,) = deliveries.unfinished()
            deliveries.run(render)
        self.assertEqual(made, [1, 2, 3, 3, 4, 5])
        states = RenderedFrame.objects.filter(render=render).values_list("frame", "file", "state")
        self.assertEqual(list(states), [(n, str(n), "done") for n in (1, 2, 3, 4, 5)])

    @override_settings(NEXAL_JOBS="threads")
    def test_a_render_that_gets_on_is_not_given_up_for_its_starts(self) -> None:
        found = self.deliverable()
        render = Render.objects.create(
            deliverable_id=found, revision=self.shot.head, spec={"from": "soft", "file": "s.%d.exr"}
        )
        RenderedFrame.objects.create(render=render, frame=1)
        Job.objects.create(kind="render", key=render.pk, starts=3)
        deliveries.run(render.pk)
        self.assertEqual(Job.objects.get(kind="render", key=render.pk).starts, 1)
