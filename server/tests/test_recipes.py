"""Saving, undoing, redoing, conflicts, and the sentences of the history."""

from __future__ import annotations

import copy
import json
from typing import Any

from django.utils import timezone
from server_support import ServerTest

from projects.models import News, Shot
from projects.news import KEPT, clear
from recipes.models import Revision
from recipes.sentences import sentence


class History(ServerTest):
    def head(self) -> dict:
        return self.api.get(f"/api/shots/{self.shot.pk}").json()["head"]

    def test_save_undo_redo(self) -> None:
        first = self.save(self.story()).json()
        self.assertEqual((first["number"], first["parent"]), (2, 1))
        changed = self.story()
        changed["steps"][1]["set"]["white"] = 0.5
        second = self.save(changed).json()
        self.assertEqual(second["sentence"], "core: white 0.4 to 0.5")
        undone = self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 3}).json()
        self.assertEqual((undone["number"], undone["redo"]), (2, True))
        self.assertEqual(self.head()["recipe"], self.story())
        redone = self.api.post(f"/api/shots/{self.shot.pk}/redo", {"head": 2}).json()
        self.assertEqual(redone["recipe"], changed)
        self.assertEqual(self.api.post(f"/api/shots/{self.shot.pk}/redo", {"head": 3}).json()["code"], "no_more")

    def test_an_edit_after_undo_keeps_the_other_branch(self) -> None:
        self.save(self.story())
        self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 2})
        self.assertEqual(self.save({"nexal": 1, "sources": {"fern": {"files": "f.png"}}}).json()["number"], 3)
        self.assertEqual(
            [row["number"] for row in self.api.get(f"/api/shots/{self.shot.pk}/revisions").json()], [1, 2, 3]
        )
        self.assertEqual(Revision.objects.get(shot=self.shot, number=2).recipe, self.story())

    def test_a_save_against_an_old_head_is_refused_with_both_versions_at_hand(self) -> None:
        self.save(self.story(), parent=1)
        mine = self.save({"nexal": 1}, parent=1)
        self.assertEqual((mine.status_code, mine.json()["code"]), (409, "conflict"))
        self.assertIn("revision 2", mine.json()["message"])
        self.assertEqual(self.head()["recipe"], self.story())
        self.assertEqual(self.save({"nexal": 1}, parent=2).json()["number"], 3)
        for route in ("undo", "redo"):
            answer = self.api.post(f"/api/shots/{self.shot.pk}/{route}", {"head": 1})
            self.assertEqual(answer.json()["code"], "conflict")

    def test_the_history_is_listed_in_pages_named_compared_and_restored(self) -> None:
        path = f"/api/shots/{self.shot.pk}"
        self.save(self.story())
        changed = self.story()
        changed["steps"][1]["set"]["white"] = 0.5
        changed["sources"]["fern"] = {"files": "fern.png"}
        self.save(changed)
        self.api.post(f"{path}/undo", {"head": 3})
        other = self.story() | {"steps": self.story()["steps"][:1]}
        self.save(other, parent=2)
        rows = self.api.get(f"{path}/history").json()["rows"]
        self.assertEqual([row["number"] for row in rows], [4, 3, 2, 1])
        # What was undone and left stands in the list, and is told apart.
        self.assertEqual([row["behind"] for row in rows], [True, False, True, True])
        self.assertEqual(
            [row["picture"] for row in rows[:2]], [other["steps"][-1]["name"], changed["steps"][-1]["name"]]
        )
        found = self.api.get(f"{path}/revisions/3/changes?to=2").json()["changes"]
        self.assertEqual(found, ["Source fern removed", "core: white 0.5 to 0.4"])
        self.assertIn("core deleted", self.api.get(f"{path}/revisions/3/changes").json()["changes"])
        named = self.api.send("PUT", f"{path}/revisions/3/name", {"name": "  with\n fern "})
        self.assertEqual(named.json()["name"], "with fern")
        self.assertEqual(self.api.get(f"{path}/revisions/3").json()["recipe"], changed)
        restored = self.api.send("POST", f"{path}/revisions", {"parent": 4, "recipe": changed, "restores": 3}).json()
        self.assertEqual((restored["number"], restored["sentence"]), (5, "Revision 3, with fern restored"))
        # What only says that it restores is told by what it changes.
        told = self.api.send("POST", f"{path}/revisions", {"parent": 5, "recipe": other, "restores": 3}).json()
        self.assertNotIn("restored", told["sentence"])
        for wrong in (9, 0):
            self.assertEqual(self.api.get(f"{path}/revisions/{wrong}").status_code, 404)
            self.assertEqual(self.api.get(f"{path}/revisions/2/changes?to={wrong}").status_code, 404)
        self.assertEqual(self.api.send("PUT", f"{path}/revisions/3/name", {"name": "x" * 121}).status_code, 422)
        for number in range(30):
            recipe = self.story()
            recipe["steps"][1]["set"]["white"] = 0.3 + number / 1000
            self.save(recipe, parent=6 + number)
        page = self.api.get(f"{path}/history").json()
        self.assertEqual((len(page["rows"]), page["more"], page["rows"][-1]["number"]), (30, True, 7))
        page = self.api.get(f"{path}/history?before=7").json()
        self.assertEqual(([row["number"] for row in page["rows"]], page["more"]), ([6, 5, 4, 3, 2, 1], False))

    def test_saving_the_same_again_makes_no_revision(self) -> None:
        self.save(self.story())
        self.assertEqual(self.save(self.story()).json()["number"], 2)

    def test_a_recipe_that_is_not_understood_is_not_stored(self) -> None:
        for recipe in ({}, {"nexal": 1, "steps": [{"name": "A"}]}, {"nexal": 1, "more": 1}):
            self.assertEqual(self.save(recipe).status_code, 422)
        many = {"nexal": 1, "steps": [{"name": f"s{n}", "op": "invert", "in": {"from": "x"}} for n in range(501)]}
        self.assertEqual(self.save(many).status_code, 422)
        self.assertEqual(self.head()["number"], 1)

    def test_a_step_with_a_fault_may_be_saved_and_is_told(self) -> None:
        recipe = self.story()
        recipe["steps"][0]["in"]["a"] = "gone.R"
        self.assertEqual(self.save(recipe).status_code, 200)
        rows = {row["name"]: row for row in self.api.post(f"/api/shots/{self.shot.pk}/inspect", {}).json()}
        self.assertEqual(rows["core"]["problem"]["where"], "step 'pull'")

    def test_the_recipe_is_downloaded_with_its_deliverables_as_outputs(self) -> None:
        self.save(self.story())
        spec = {"from": "cut", "file": "cut.png"}
        self.api.post(f"/api/shots/{self.shot.pk}/deliverables", {"name": "cut", "spec": spec})
        answer = self.api.get(f"/api/shots/{self.shot.pk}/recipe")
        self.assertIn('filename="040_moth_r2.json"', answer["Content-Disposition"])
        Shot.objects.filter(pk=self.shot.pk).update(name='月 "quoted"\u202e; x=y')
        header = self.api.get(f"/api/shots/{self.shot.pk}/recipe")["Content-Disposition"]
        self.assertTrue(header.isascii())
        self.assertRegex(header, r"^attachment; filename\*=utf-8''%E6%9C%88_[\w%]+_r2\.json$")
        recipe = json.loads(answer.content)
        self.assertEqual(recipe["outputs"], {"cut": spec})
        self.assertEqual(recipe["steps"], self.story()["steps"])


class Sentences(ServerTest):
    def test_what_changed_is_said(self) -> None:
        base = self.story()

        def after(change) -> str:  # type: ignore[no-untyped-def]
            recipe = copy.deepcopy(base)
            change(recipe)
            return sentence(base, recipe)

        def rename(recipe: dict) -> None:
            recipe["steps"][2]["name"] = "inside"
            recipe["steps"][3]["in"]["alpha"] = "inside"

        self.assertEqual(after(lambda r: r["steps"].pop()), "cut deleted")
        self.assertEqual(after(rename), "matte renamed inside")
        self.assertEqual(after(lambda r: r["steps"].insert(0, {"name": "x", "op": "blur"})), "x added (blur)")
        self.assertEqual(after(lambda r: r["steps"][0].update(on=False)), "pull turned off")
        self.assertEqual(after(lambda r: r["steps"][0]["in"].update(a="moth.B")), "pull: a fed from moth.B")
        self.assertEqual(after(lambda r: r["steps"].insert(0, r["steps"].pop(1))), "core moved")
        self.assertEqual(after(lambda r: r["sources"].update(fern={"files": "f"})), "Source fern added")
        self.assertEqual(after(lambda r: r["sources"]["moth"].update(colour="data")), "Source moth read differently")
        self.assertEqual(after(lambda r: r["steps"][1].pop("set")), "core: black 0.1 to its default, and 1 more")
        self.assertEqual(after(lambda r: None), "No change")


class SentencesOfKeys(ServerTest):
    def test_what_became_of_keys(self) -> None:
        def told(before: Any, after: Any) -> str:
            recipes = [{"steps": [{"name": "s", "op": "blur", "set": {"radius": each}}]} for each in (before, after)]
            return sentence(*recipes).removeprefix("s: ")

        one, two = {"keys": [[1, 2]]}, {"keys": [[1, 2], [5, 3]]}
        for before, after, words in (
            (2, one, "radius moves, a key at 1"),
            (one, two, "radius, key at 5 added"),
            (two, one, "radius, key at 5 taken away"),
            (two, {"keys": [[1, 2], [6, 3]]}, "radius, the key at 5 moved to 6"),
            (two, {"keys": [[1, 2], [5, 3, "hold"]]}, "radius, key at 5 changed"),
            (two, 3, "radius stands still at 3"),
            (2, 3, "radius 2 to 3"),
        ):
            self.assertEqual(told(before, after), words)


class NewsOfAShot(ServerTest):
    def news(self, since: int, api: Any = None) -> dict:
        return (api or self.api).get(f"/api/shots/{self.shot.pk}/news?since={since}").json()

    def test_what_changed_since_a_number_and_everything_where_that_is_too_long_ago(self) -> None:
        with self.captureOnCommitCallbacks(execute=True):
            self.save({"nexal": 1})
            self.upload()
        start = self.news(0)
        self.assertEqual(start["what"], [])
        self.assertEqual(self.news(start["number"])["what"], [])
        with self.captureOnCommitCallbacks(execute=True):
            self.save(self.story())
        told = self.news(start["number"], self.as_user(self.viewer))
        self.assertEqual((told["what"], told["head"]), (["revision"], 2))
        with self.captureOnCommitCallbacks(execute=True):
            self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 2})
            self.upload("leaf.exr")
        self.assertEqual(self.news(told["number"])["what"], ["revision", "sources"])
        News.objects.filter(pk__lte=told["number"]).delete()
        self.assertEqual(self.news(told["number"])["what"], ["revision", "sources", "renders", "notes"])
        with self.assertNumQueries(3):
            self.news(told["number"])

    def test_old_news_is_cleared(self) -> None:
        with self.captureOnCommitCallbacks(execute=True):
            self.upload()
        self.assertTrue(News.objects.exists())
        clear()
        self.assertTrue(News.objects.exists())
        News.objects.update(created=timezone.now() - 2 * KEPT)
        clear()
        self.assertFalse(News.objects.exists())


class Away(ServerTest):
    def away(self, api: Any) -> Any:
        return api.get(f"/api/shots/{self.shot.pk}").json()["away"]

    def test_what_others_saved_meanwhile_is_told_once(self) -> None:
        theirs = self.as_user(self.viewer)
        self.assertIsNone(self.away(theirs))
        self.upload()
        self.save(self.story())
        story = self.story()
        story["steps"].pop()
        self.save(story)
        self.assertEqual(self.away(theirs), {"since": 1, "revisions": 2, "authors": ["owner"]})
        self.assertIsNone(self.away(theirs))
        # Nobody is told of what they did themselves, nor of undoing.
        self.assertIsNone(self.away(self.api))
        self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 3})
        self.assertIsNone(self.away(theirs))
        self.save(self.story() | {"steps": []})
        self.assertEqual(self.away(theirs)["revisions"], 1)
        self.assertIsNone(self.away(self.api))
