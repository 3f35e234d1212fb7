"""Projects side by side: what stands for them, put aside, deleted and recovered; and the tags of their shots."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone
from server_support import ServerTest

from deliveries import services as deliveries
from deliveries.models import RenderState
from jobs import chores
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision
from tags.models import Tag
from wall.tidying import KEPT_DAYS


class Projects(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.shot.refresh_from_db()
        self.path = f"/api/projects/{self.project.pk}"

    def cards(self) -> list[dict[str, Any]]:
        return self.api.get("/api/projects").json()

    def test_what_was_worked_on_last_stands_for_a_project(self) -> None:
        for number in range(6):
            first_revision(Shot.objects.create(project=self.project, name=f"{number}"), self.owner.pk)
        card = self.cards()[0]
        self.assertEqual((card["shots"], card["members"]), (7, ["owner", "viewer"]))
        # Empty shots have no picture; the moth's is among the newest no more.
        self.assertEqual(card["pictures"], [])
        self.shot.refresh_from_db()
        type(self.shot.head).objects.filter(pk=self.shot.head_id).update(created=timezone.now() + timedelta(hours=1))
        card = self.cards()[0]
        told = {"shot": self.shot.pk, "name": "040 moth", "revision": 2, "picture": "cut", "frame": 1}
        self.assertEqual(card["pictures"], [told])
        address = "/api/shots/{shot}/revisions/{revision}/view/{picture}?scale=8&frame={frame}".format(**told)
        self.assertEqual(self.api.get(address).status_code, 200)
        with self.assertNumQueries(5):
            self.cards()

    def test_put_aside_by_its_owner(self) -> None:
        self.assertTrue(self.api.put(self.path, {"archived": True}).json()["archived"])
        self.assertEqual([card["archived"] for card in self.cards()], [True])
        # It is worked in as ever.
        self.assertEqual(self.api.get(f"/api/shots/{self.shot.pk}").status_code, 200)

    def test_deleted_it_is_nowhere_and_comes_back_whole(self) -> None:
        gone = Shot.objects.create(project=self.project, name="041 gone")
        first_revision(gone, self.owner.pk)
        self.api.delete(f"/api/shots/{gone.pk}")
        loss = self.api.get(f"{self.path}/loss").json()
        self.assertEqual((loss["shots"], loss["revisions"], loss["sources"]), (1, 2, 1))
        self.assertGreater(loss["bytes"], 100)
        self.assertEqual(self.api.delete(self.path).status_code, 204)
        self.assertEqual(self.cards(), [])
        shot = f"/api/shots/{self.shot.pk}"
        for path in (self.path, f"{self.path}/shots", f"{self.path}/members", shot, f"{shot}/news", f"{shot}/loss"):
            self.assertEqual(self.api.get(path).status_code, 404, path)
        for answer in (
            self.api.delete(self.path),
            self.api.put(self.path, {"name": "x"}),
            self.api.post(f"{self.path}/shots", {"name": "x"}),
            self.api.post(f"/api/shots/{gone.pk}/recovery"),
        ):
            self.assertEqual(answer.status_code, 404)
        row = self.api.get("/api/deleted-projects").json()[0]
        self.assertEqual((row["id"], row["name"]), (self.project.pk, "Night Conservatory"))
        self.assertEqual(self.api.post(f"{self.path}/recovery").status_code, 200)
        self.assertEqual(self.api.post(f"{shot}/view", {"address": "cut"}).status_code, 200)
        # What was deleted by itself is deleted still.
        self.assertEqual([row["name"] for row in self.api.get(f"{self.path}/shots").json()], ["040 moth"])
        self.assertEqual(self.api.post(f"{self.path}/recovery").status_code, 404)

    def test_who_may_recover(self) -> None:
        self.api.delete(self.path)
        viewer = self.as_user(self.viewer)
        self.assertEqual(viewer.get("/api/deleted-projects").json(), [])
        self.assertEqual(viewer.post(f"{self.path}/recovery").status_code, 403)
        self.assertEqual(self.as_user(self.stranger).post(f"{self.path}/recovery").status_code, 404)

    def test_what_is_being_delivered_is_not_deleted(self) -> None:
        deliverable = deliveries.create(self.shot, "cut", {"from": "cut", "file": "cut.exr"})
        render = deliveries.start(deliverable, self.owner.pk)
        type(render).objects.filter(pk=render.pk).update(state=RenderState.RENDERING)
        self.assertEqual(self.api.delete(self.path).json()["code"], "delivering")
        self.assertEqual(len(self.cards()), 1)

    def test_after_a_while_it_is_gone_for_good_but_what_others_have(self) -> None:
        other = Project.objects.create(name="Day Conservatory")
        Membership.objects.create(project=other, user=self.owner, role=Role.OWNER)
        copy = self.api.post(f"/api/shots/{self.shot.pk}/copies", {"name": "041 moth"}).json()["id"]
        self.api.put(f"/api/shots/{copy}", {"project": other.pk})
        self.assertEqual(self.api.get(f"{self.path}/loss").json()["bytes"], 0)
        self.api.delete(self.path)
        for days, there in ((KEPT_DAYS - 1, True), (KEPT_DAYS + 1, False)):
            Project.objects.exclude(deleted=None).update(deleted=timezone.now() - timedelta(days=days))
            chores.run_all()
            self.assertEqual(Project.objects.filter(pk=self.project.pk).exists(), there)
            self.assertEqual(Shot.objects.filter(pk=self.shot.pk).exists(), there)
        self.assertEqual(len([path for path in Path(settings.MEDIA_ROOT).glob("originals/*/*") if path.is_file()]), 1)
        self.assertEqual(self.api.post(f"/api/shots/{copy}/view", {"address": "cut"}).status_code, 200)


class Tags(ServerTest):
    def tagged(self, *words: str) -> Any:
        return self.api.put(f"/api/shots/{self.shot.pk}", {"tags": list(words)})

    def test_set_all_at_once_and_copied_with_the_shot(self) -> None:
        answer = self.tagged(" glass ", "Moths", "moths", "", "night  work")
        self.assertEqual(answer.json()["tags"], ["glass", "Moths", "night work"])
        copy = self.api.post(f"/api/shots/{self.shot.pk}/copies", {"name": "041 moth"}).json()
        self.assertEqual(copy["tags"], ["glass", "Moths", "night work"])
        wall = self.api.get(f"/api/projects/{self.project.pk}/shots").json()
        self.assertEqual([row["tags"] for row in wall], [["glass", "Moths", "night work"]] * 2)
        self.assertEqual(self.tagged().json()["tags"], [])
        self.assertEqual(Tag.objects.count(), 3)

    def test_odd_ones_are_refused_or_kept_as_they_are(self) -> None:
        self.assertEqual(self.tagged("<i>蛾</i>", "é", "e").status_code, 200)
        for bad in (["x" * 41], ["a,b"], [str(number) for number in range(13)], ["x"] * 101, ["x" * 10_000]):
            answer = self.api.put(f"/api/shots/{self.shot.pk}", {"tags": bad, "state": "done"})
            self.assertEqual(answer.status_code, 422, answer.content)
            self.assertTrue(answer.json()["message"])
        # Nothing of a change that is refused is done.
        self.shot.refresh_from_db()
        self.assertEqual(self.shot.state, "todo")
