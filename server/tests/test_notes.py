"""Notes: left, answered, marked done, and kept with what they are about."""

from __future__ import annotations

from typing import Any

from server_support import Api, ServerTest

from notes.models import Note
from notes.services import MOST_ANSWERS, MOST_OPEN
from projects.models import Membership, Role, Shot
from projects.news import since
from recipes.services import first_revision


class Notes(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.theirs = self.as_user(self.viewer)
        self.path = f"/api/shots/{self.shot.pk}/notes"

    def leave(self, text: str = "the wing's edge is green", api: Api | None = None, **more: Any) -> dict[str, Any]:
        answer = (api or self.api).post(self.path, {"text": text, **more})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def listed(self, **query: Any) -> dict[str, Any]:
        return self.api.get(self.path, data=query).json()

    def test_left_at_a_place_answered_done_and_opened_again(self) -> None:
        viewer = self.leave(api=self.theirs, item="matte", x=12.5, y=8.0, frame=1)
        self.assertEqual((viewer["mine"], viewer["author"]), (True, "viewer"))
        answer = self.api.post(f"{self.path}/{viewer['id']}/answers", {"text": " mended \n"})
        self.assertEqual([each["text"] for each in answer.json()["answers"]], ["mended"])
        again = self.theirs.post(f"{self.path}/{answer.json()['answers'][0]['id']}/answers", {"text": "so it is"})
        self.assertEqual([each["text"] for each in again.json()["answers"]], ["mended", "so it is"])
        said = again.json()["answers"][1]["id"]
        self.assertEqual(self.theirs.put(f"{self.path}/{said}", {"done": True}).status_code, 422)
        self.assertEqual(len(self.theirs.put(f"{self.path}/{said}", {"text": "yes"}).json()["answers"]), 2)
        row = self.listed()["rows"][0]
        self.assertEqual((row["item"], row["x"], row["y"], row["frame"], row["mine"]), ("matte", 12.5, 8, 1, False))
        done = self.api.put(f"{self.path}/{viewer['id']}", {"done": True}).json()
        self.assertEqual(done["done_by"], "owner")
        self.assertEqual((self.listed()["rows"], self.listed()["done"]), ([], 1))
        self.assertEqual([each["id"] for each in self.listed(done=True)["rows"]], [viewer["id"]])
        opened = self.theirs.put(f"{self.path}/{viewer['id']}", {"done": False}).json()
        self.assertEqual((opened["done"], opened["done_by"], len(self.listed()["rows"])), (None, "", 1))

    def test_whose_note_it_is(self) -> None:
        owners, viewers = self.leave(), self.leave(api=self.theirs)
        self.assertEqual(self.theirs.put(f"{self.path}/{owners['id']}", {"text": "no"}).status_code, 403)
        self.assertEqual(self.api.put(f"{self.path}/{viewers['id']}", {"text": "no"}).status_code, 403)
        self.assertEqual(self.theirs.put(f"{self.path}/{owners['id']}", {"done": True}).status_code, 403)
        self.assertEqual(self.theirs.delete(f"{self.path}/{owners['id']}").status_code, 403)
        changed = self.theirs.put(f"{self.path}/{viewers['id']}", {"text": "the wing's tip is"}).json()
        self.assertEqual(changed["text"], "the wing's tip is")
        self.assertIsNotNone(changed["changed"])
        self.assertEqual(self.api.delete(f"{self.path}/{viewers['id']}").status_code, 204)
        Membership.objects.filter(user=self.owner).update(role=Role.ARTIST)
        others = self.leave(api=self.theirs)
        self.assertEqual(self.api.put(f"{self.path}/{others['id']}", {"done": True}).status_code, 200)
        self.assertEqual(self.api.delete(f"{self.path}/{others['id']}").status_code, 403)

    def test_odd_words_and_places_are_refused_or_kept_as_they_are(self) -> None:
        markup = "<script>alert('moth')</script> 蛾 & \"more\""
        self.assertEqual(self.leave(markup)["text"], markup)
        for bad in (
            {"text": " \n "},
            {"text": "x" * 10_000},
            {"text": "x", "item": "matte", "x": 3},
            {"text": "x", "x": 3, "y": 4},
            {"text": "x", "item": "matte", "x": 1e300, "y": 0},
            {"text": "x", "frame": 10**12},
            {"text": "x", "item": "m" * 10_000},
        ):
            with self.subTest(bad=str(bad)[:60]):
                answer = self.api.post(self.path, bad)
                self.assertEqual(answer.status_code, 422)
                self.assertTrue(answer.json()["message"] and answer.json()["remedy"])
        self.assertEqual(Note.objects.count(), 1)

    def test_a_note_of_another_shot_is_not_here(self) -> None:
        other = Shot.objects.create(project=self.project, name="050 lantern")
        first_revision(other, self.owner.pk)
        note = self.leave()
        for method, path in (("PUT", ""), ("DELETE", ""), ("POST", "/answers")):
            address = f"/api/shots/{other.pk}/notes/{note['id']}{path}"
            self.assertEqual(self.api.send(method, address, {"text": "x"}).status_code, 404)

    def test_notes_go_with_the_names_of_their_items(self) -> None:
        note = self.leave(item="matte")
        renamed = self.story()
        renamed["steps"][2]["name"], renamed["steps"][3]["in"]["alpha"] = "wings", "wings"
        self.assertEqual(self.save(renamed).status_code, 200)
        self.assertEqual(Note.objects.get(pk=note["id"]).item, "wings")
        head = self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 3}).json()["number"]
        self.assertEqual(Note.objects.get(pk=note["id"]).item, "matte")
        self.api.post(f"/api/shots/{self.shot.pk}/redo", {"head": head})
        self.assertEqual(Note.objects.get(pk=note["id"]).item, "wings")

    def test_others_are_told_and_the_wall_counts(self) -> None:
        with self.captureOnCommitCallbacks(execute=True):
            self.leave()
        number, _ = since(self.shot.pk, 0)
        with self.captureOnCommitCallbacks(execute=True):
            note = self.leave()
        self.assertEqual(since(self.shot.pk, number)[1], ["notes"])
        wall = f"/api/projects/{self.project.pk}/shots"
        self.assertEqual([row["notes"] for row in self.api.get(wall).json()], [2])
        self.api.put(f"{self.path}/{note['id']}", {"done": True})
        self.assertEqual([row["notes"] for row in self.api.get(wall).json()], [1])

    def test_lists_end_and_are_paged(self) -> None:
        Note.objects.bulk_create(Note(shot=self.shot, author=self.owner, text=str(at)) for at in range(MOST_OPEN))
        self.assertEqual(self.api.post(self.path, {"text": "one more"}).status_code, 409)
        first = Note.objects.filter(about=None).first()
        Note.objects.bulk_create(Note(shot=self.shot, text="yes", about=first) for _ in range(MOST_ANSWERS))
        self.assertEqual(self.api.post(f"{self.path}/{first.pk}/answers", {"text": "yes"}).status_code, 409)
        self.api.put(f"{self.path}/{first.pk}", {"done": True})
        Note.objects.filter(done=None, about=None).update(done=Note.objects.get(pk=first.pk).done)
        seen: list[int] = []
        page = self.listed(done=True)
        while True:
            seen += [row["id"] for row in page["rows"]]
            if not page["more"]:
                break
            page = self.listed(done=True, before=seen[-1])
        self.assertEqual(seen, sorted(seen, reverse=True))
        self.assertEqual(len(seen), MOST_OPEN)
