"""Kept chains: steps under a name, for every shot of the project."""

from __future__ import annotations

from typing import Any

from server_support import ServerTest

from chains.api import MOST
from chains.models import Chain
from projects.models import Project


class Chains(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.path = f"/api/projects/{self.project.pk}/chains"

    def keep(self, **more: Any) -> Any:
        steps = self.story()["steps"][:3]
        return self.api.post(self.path, {"name": " moth  pull ", "steps": steps, **more})

    def test_kept_with_the_settings_that_come_first(self) -> None:
        answer = self.keep(about="From a  plate.", first=[["core", "black"], ["core", "white"]])
        self.assertEqual(answer.status_code, 200, answer.content)
        row = self.as_user(self.viewer).get(self.path).json()[0]
        self.assertEqual((row["name"], row["about"], row["author"]), ("moth pull", "From a plate.", "owner"))
        self.assertEqual([step["name"] for step in row["steps"]], ["pull", "core", "matte"])
        self.assertEqual(row["first"], [["core", "black"], ["core", "white"]])
        changed = self.api.put(f"{self.path}/{row['id']}", {"name": "pull", "about": ""})
        self.assertEqual((changed.json()["name"], changed.json()["about"]), ("pull", ""))
        self.assertEqual(self.api.delete(f"{self.path}/{row['id']}").status_code, 204)
        self.assertEqual(self.api.get(self.path).json(), [])

    def test_what_is_none_is_refused_with_a_reason(self) -> None:
        self.assertEqual(self.keep().status_code, 200)
        self.assertEqual(self.keep().status_code, 409)
        step = {"name": "turned", "op": "invert", "in": {"from": "moth"}}
        for bad in (
            {"name": "  "},
            {"name": "x" * 10_000},
            {"name": "a", "steps": []},
            {"name": "c", "steps": [step, step]},
            {"name": "d", "steps": [step] * 61},
            {"name": "e", "first": [["wing", "black"]]},
            {"name": "f", "first": [["core", "black"]] * 13},
            {"name": "g", "steps": ["core"]},
        ):
            with self.subTest(bad=str(bad)[:60]):
                answer = self.keep(**bad)
                self.assertEqual(answer.status_code, 422, answer.content)
                self.assertTrue(answer.json()["message"])
        Chain.objects.bulk_create(Chain(project=self.project, name=str(at), steps=[step]) for at in range(MOST))
        self.assertEqual(self.keep(name="one more").status_code, 409)

    def test_a_chain_belongs_to_its_project(self) -> None:
        other = Project.objects.create(name="Day Conservatory")
        step = {"name": "turned", "op": "invert", "in": {"from": "moth"}}
        theirs = Chain.objects.create(project=other, name="turned", steps=[step])
        for method in ("PUT", "DELETE"):
            answer = self.api.send(method, f"{self.path}/{theirs.pk}", {"name": "mine"})
            self.assertEqual(answer.status_code, 404)
