"""Shots renamed, duplicated, moved, put aside, deleted, recovered, and gone for good."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.http import HttpResponse
from django.utils import timezone
from server_support import ServerTest

from deliveries import services as deliveries
from deliveries.models import RenderState
from jobs import chores
from projects.models import Membership, Project, Role, Shot
from sources.models import Source
from wall import coming
from wall.tidying import KEPT_DAYS


class Wall(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.shot.refresh_from_db()
        self.path = f"/api/shots/{self.shot.pk}"

    def names(self) -> list[str]:
        return [row["name"] for row in self.api.get(f"/api/projects/{self.project.pk}/shots").json()]

    def refused(self, answer: HttpResponse, status: int, code: str) -> None:
        told = answer.json()
        self.assertEqual((answer.status_code, told["code"]), (status, code), told)

    def originals(self) -> list[Path]:
        return [path for path in Path(settings.MEDIA_ROOT).glob("originals/*/*") if path.is_file()]

    def duplicate(self, name: str = "041 moth again") -> Shot:
        return Shot.objects.get(pk=self.api.post(f"{self.path}/copies", {"name": name}).json()["id"])

    def pixels(self, shot: Shot) -> bytes:
        return self.api.post(f"/api/shots/{shot.pk}/view", {"address": "cut"}).content

    def test_renamed_put_aside_and_given_a_state(self) -> None:
        self.api.post(f"/api/projects/{self.project.pk}/shots", {"name": "050 lantern"})
        row = self.api.put(self.path, {"name": "  042   moth  ", "state": "review", "archived": True}).json()
        self.assertEqual((row["name"], row["state"], row["archived"]), ("042 moth", "review", True))
        self.refused(self.api.put(self.path, {"name": "050 LANTERN"}), 409, "name_taken")
        self.refused(self.api.put(self.path, {"name": "   "}), 422, "name")
        self.assertEqual(self.api.put(self.path, {"name": "m" * 10_000}).status_code, 422)
        self.assertEqual(self.api.put(self.path, {"state": "lost"}).status_code, 422)
        self.assertEqual(self.api.get(f"/api/projects/{self.project.pk}").json()["shots"], 1)
        self.assertEqual(self.names(), ["042 moth", "050 lantern"])
        self.assertEqual(self.api.put(self.path, {"name": "<b>moth</b>"}).json()["name"], "<b>moth</b>")

    def test_duplicated_it_has_the_same_pixels_and_files_and_its_own_history(self) -> None:
        self.api.put(f"{self.path}/marks", {"marks": [{"side": "subject", "x": 3, "y": 3, "radius": 2}]})
        files = self.originals()
        made = self.duplicate()
        self.assertEqual(self.originals(), files)
        self.assertEqual(self.pixels(made), self.pixels(self.shot))
        whole = self.api.get(f"/api/shots/{made.pk}").json()
        self.assertEqual((len(whole["marks"]), whole["head"]["number"]), (1, 2))
        self.api.post(f"/api/shots/{made.pk}/revisions", {"parent": 2, "recipe": {"nexal": 1}})
        self.shot.refresh_from_db()
        self.assertEqual(self.shot.head.number, 2)
        self.refused(self.api.post(f"{self.path}/copies", {"name": made.name}), 409, "name_taken")
        self.refused(self.api.post(f"{self.path}/copies", {"name": "  "}), 422, "name")

    def test_a_file_stays_as_long_as_any_shot_has_it(self) -> None:
        made = self.duplicate()
        self.assertEqual(self.api.get(f"{self.path}/loss").json()["bytes"], 0)
        self.api.post(f"/api/shots/{made.pk}/revisions", {"parent": 2, "recipe": {"nexal": 1}})
        copied = Source.objects.get(shot=made)
        self.assertEqual(self.api.delete(f"/api/shots/{made.pk}/sources/{copied.pk}").status_code, 204)
        self.assertEqual(len(self.originals()), 1)
        self.api.post(f"{self.path}/revisions", {"parent": 2, "recipe": {"nexal": 1}})
        loss = self.api.get(f"{self.path}/loss").json()
        self.assertEqual((loss["sources"], loss["bytes"]), (1, self.originals()[0].stat().st_size))
        self.api.delete(f"{self.path}/sources/{self.shot.sources.get().pk}")
        self.assertEqual(self.originals(), [])

    def test_moved_where_one_may_work(self) -> None:
        other = Project.objects.create(name="Day Conservatory")
        self.assertEqual(self.api.put(self.path, {"project": other.pk}).status_code, 404)
        Membership.objects.create(project=other, user=self.owner, role=Role.VIEWER)
        self.refused(self.api.put(self.path, {"project": other.pk}), 403, "forbidden")
        other.memberships.update(role=Role.ARTIST)
        Shot.objects.create(project=other, name=self.shot.name)
        self.refused(self.api.put(self.path, {"project": other.pk}), 409, "name_taken")
        # Of a change that is refused nothing is done.
        self.refused(
            self.api.put(self.path, {"name": "040 moth ", "state": "done", "project": other.pk}), 409, "name_taken"
        )
        self.shot.refresh_from_db()
        self.assertEqual((self.shot.state, self.shot.project), ("todo", self.project))
        other.shots.all().delete()
        self.assertEqual(self.api.put(self.path, {"project": other.pk}).status_code, 200)
        self.assertEqual(self.names(), [])
        self.assertEqual(self.as_user(self.viewer).get(self.path).status_code, 404)

    def test_deleted_it_is_nowhere_and_comes_back_whole(self) -> None:
        pixels = self.pixels(self.shot)
        self.assertEqual(self.api.get(f"{self.path}/loss").json()["revisions"], 2)
        self.assertEqual(self.api.delete(self.path).status_code, 204)
        self.assertEqual(self.names(), [])
        for answer in (self.api.get(self.path), self.api.get(f"{self.path}/news"), self.api.delete(self.path)):
            self.assertEqual(answer.status_code, 404)
        row = self.api.get(f"/api/projects/{self.project.pk}/deleted").json()[0]
        self.assertEqual((row["id"], row["name"]), (self.shot.pk, "040 moth"))
        # Its name is free meanwhile.
        self.assertEqual(self.api.post(f"/api/projects/{self.project.pk}/shots", {"name": "040 moth"}).status_code, 200)
        back = self.api.post(f"{self.path}/recovery")
        self.assertEqual(back.json()["name"], "040 moth (2)")
        self.assertEqual(self.pixels(self.shot), pixels)
        self.assertEqual(self.api.post(f"{self.path}/recovery").status_code, 404)

    def test_who_may_delete_and_recover(self) -> None:
        viewer = self.as_user(self.viewer)
        self.assertEqual(viewer.delete(self.path).status_code, 403)
        self.api.delete(self.path)
        self.assertEqual(viewer.post(f"{self.path}/recovery", {}).status_code, 403)
        self.assertEqual(self.as_user(self.stranger).post(f"{self.path}/recovery", {}).status_code, 404)

    def test_what_is_being_delivered_is_not_deleted(self) -> None:
        deliverable = deliveries.create(self.shot, "cut", {"from": "cut", "file": "cut.exr"})
        render = deliveries.start(deliverable, self.owner.pk)
        type(render).objects.filter(pk=render.pk).update(state=RenderState.RENDERING)
        self.refused(self.api.delete(self.path), 409, "delivering")
        type(render).objects.filter(pk=render.pk).update(state=RenderState.DONE)
        self.assertEqual(self.api.delete(self.path).status_code, 204)

    def test_after_a_while_it_is_gone_for_good_with_what_is_its_own(self) -> None:
        made = self.duplicate()
        deliverable = deliveries.create(self.shot, "cut", {"from": "cut", "file": "cut.exr"})
        render = deliveries.start(deliverable, self.owner.pk)
        folder = deliveries.render_folder(render.pk)
        self.assertTrue(folder.exists())
        self.api.delete(self.path)
        self.age(KEPT_DAYS - 1)
        chores.run_all()
        self.assertTrue(Shot.objects.filter(pk=self.shot.pk).exists())
        self.age(KEPT_DAYS + 1)
        chores.run_all()
        self.assertFalse(Shot.objects.filter(pk=self.shot.pk).exists())
        self.assertFalse(folder.exists())
        # The duplicate has the file, too.
        self.assertEqual(len(self.originals()), 1)
        self.assertEqual(self.as_user(self.owner).get(f"/api/shots/{made.pk}").status_code, 200)
        self.api.delete(f"/api/shots/{made.pk}")
        self.age(KEPT_DAYS + 1)
        chores.run_all()
        self.assertEqual(self.originals(), [])

    def age(self, days: float) -> None:
        Shot.objects.exclude(deleted=None).update(deleted=timezone.now() - timedelta(days=days))

    def test_a_project_is_renamed_by_its_owner(self) -> None:
        path = f"/api/projects/{self.project.pk}"
        self.assertEqual(self.api.put(path, {"name": " Day Conservatory "}).json()["name"], "Day Conservatory")
        for refused in (self.api.put(path, {"name": "  "}), self.api.post("/api/projects", {"name": " "})):
            self.refused(refused, 422, "name")
        self.refused(self.api.post(f"{path}/shots", {"name": "   "}), 422, "name")

    def test_shots_that_are_to_come_are_told_while_somebody_makes_them(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(self.settings(VAR=folder))
        path = f"/api/projects/{self.project.pk}/coming"
        self.assertEqual(self.api.get(path).json(), [])
        coming.tell(self.project.pk, [("110 glasshouse", 0.25), ("115 fireflies", 0)])
        told = [{"name": "110 glasshouse", "share": 0.25}, {"name": "115 fireflies", "share": 0.0}]
        self.assertEqual(self.api.get(path).json(), told)
        other = Project.objects.create(name="Another house")
        user = self.project.memberships.first().user
        Membership.objects.create(project=other, user=user, role=Role.VIEWER)
        self.assertEqual(self.api.get(f"/api/projects/{other.pk}/coming").json(), [])
        # Who made them is gone, or left half a file: then nothing comes.
        file = folder / "coming.json"
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        file.write_text(json.dumps(json.loads(file.read_text()) | {"by": ended.pid}))
        self.assertEqual(self.api.get(path).json(), [])
        for nonsense in ("", "{", "[1]", json.dumps({"project": self.project.pk})):
            file.write_text(nonsense)
            self.assertEqual(self.api.get(path).json(), [])
        coming.tell(self.project.pk, [("110 glasshouse", 1)])
        coming.tell(self.project.pk, [])
        self.assertEqual((self.api.get(path).json(), list(folder.iterdir())), ([], []))

    def test_a_sequence_is_duplicated_with_its_frames(self) -> None:
        started = self.api.post(f"{self.path}/sequences", {"files": "fly.%04d.exr"}).json()
        self.frame(started["id"], 1)
        self.frame(started["id"], 2)
        made = self.duplicate()
        copied = Source.objects.get(shot=made, files="fly.%04d.exr")
        self.assertEqual(list(copied.frames.values_list("number", "state")), [(1, "ready"), (2, "ready")])

    def frame(self, source: int, number: int) -> Any:
        from django.core.files.uploadedfile import SimpleUploadedFile
        from server_support import exr_bytes, plate

        file = SimpleUploadedFile(f"fly.{number:04d}.exr", exr_bytes(plate()))
        return self.api.client.post(f"{self.path}/sources/{source}/frames", {"file": file, "number": number})
