"""What names items outside of a recipe goes along with their names."""

from __future__ import annotations

import copy
from typing import Any

from django.apps import apps
from django.db import models
from server_support import ServerTest

from deliveries.models import Deliverable
from deliveries.services import create
from nexal.addresses import readdressed
from notes.models import Note
from projects.models import Shot
from projects.references import referring_fields
from recipes.sentences import renamed, sentences

FREE = {
    "projects.Shot": {"name", "marks_page", "state", "deleted_name"},
    "projects.News": {"what"},
    "notes.Note": {"text"},
    "deliveries.Deliverable": {"name"},
    # It was rendered from a revision that has the names of then.
    "deliveries.Render": {"spec", "written", "state", "movie_state", "movie_problem"},
    "deliveries.RenderedFrame": {"state", "error", "warnings", "file"},
    "recipes.Revision": {"recipe", "sentence", "name"},
    # It is found by what it is made from, and told with the names of when it was asked for.
    "stage.SlowResult": {"item", "digest", "recipe", "wanted_by", "state", "problem", "question", "answer"},
    "tags.Tag": {"word"},
    # Files, by their own names.
    "sources.Source": None,
    "sources.SourceFrame": None,
    "sources.Manifest": None,
    "sources.UsedName": None,
}
"""Fields of what belongs to a shot that name no item of its present recipe; None for all of a model."""


def _fields(model: type[models.Model]) -> set[str]:
    return {
        field.name
        for field in model._meta.get_fields()
        if isinstance(field, models.CharField | models.TextField | models.JSONField)
    }


def _belonging() -> dict[str, type[models.Model]]:
    """Every model that belongs to a shot, by way of others too."""
    found: dict[str, type[models.Model]] = {Shot._meta.label: Shot}
    grew = True
    while grew:
        grew = False
        for model in apps.get_models():
            parents = {field.related_model for field in model._meta.get_fields() if field.many_to_one}
            if model._meta.label not in found and parents & set(found.values()):
                found[model._meta.label] = model
                grew = True
    return found


class References(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.shot.refresh_from_db()

    def renaming(self, recipe: dict[str, Any], names: dict[str, str]) -> dict[str, Any]:
        recipe = copy.deepcopy(recipe)
        recipe["sources"] = {names.get(name, name): spec for name, spec in recipe["sources"].items()}
        recipe["steps"] = [
            {**readdressed(step, names), "name": names.get(step["name"], step["name"])} for step in recipe["steps"]
        ]
        return recipe

    def test_every_field_of_what_belongs_to_a_shot_follows_or_is_known_to_be_free(self) -> None:
        known = referring_fields()
        for label, model in _belonging().items():
            free = FREE.get(label, set())
            for field in _fields(model) if free is not None else ():
                with self.subTest(f"{label}.{field}"):
                    self.assertNotEqual(f"{label}.{field}" in known, field in free)

    def test_deliverables_notes_and_marks_go_along_and_come_back(self) -> None:
        cut = create(self.shot, "cut", {"from": "cut", "file": "cut.exr"})
        parts = create(self.shot, "parts", {"from": {"R": "moth.R", "A": "matte"}, "file": "parts.exr"})
        note = Note.objects.create(shot=self.shot, author=self.owner, text="look", item="moth")
        mark = {"side": "subject", "x": 3.0, "y": 3.0, "radius": 2.0}
        Shot.objects.filter(pk=self.shot.pk).update(marks=[mark | {"on": "moth"}, mark | {"on": ""}])

        def named() -> list[Any]:
            for row in (cut, parts, note, self.shot):
                row.refresh_from_db()
            on = [each["on"] for each in self.shot.marks]
            return [cut.spec["from"], parts.spec["from"], note.item, on]

        before = named()
        names = {"moth": "insect", "matte": "inside", "cut": "cutout"}
        with self.captureOnCommitCallbacks(execute=True):
            self.assertEqual(self.save(self.renaming(self.story(), names)).status_code, 200)
        after = ["cutout", {"R": "insect.R", "A": "inside"}, "insect", ["insect", ""]]
        self.assertEqual(named(), after)
        self.assertEqual(sorted(set(self.shot.news.values_list("what", flat=True))), ["notes", "renders", "revision"])
        head = self.api.post(f"/api/shots/{self.shot.pk}/undo", {"head": 3}).json()["number"]
        self.assertEqual(named(), before)
        self.api.post(f"/api/shots/{self.shot.pk}/redo", {"head": head})
        self.assertEqual(named(), after)
        self.assertEqual(Deliverable.objects.count(), 2)

    def test_names_are_told_apart_by_what_bears_them(self) -> None:
        base = self.story()
        names = {"moth": "insect", "pull": "first", "core": "second"}
        now = self.renaming(base, names)
        self.assertEqual(renamed(base, now), names)
        self.assertEqual(
            sentences(base, now), ["Source moth renamed insect", "pull renamed first", "core renamed second"]
        )
        # Beside other changes.
        now["steps"].append({"name": "turned", "op": "invert", "in": {"from": "second"}})
        self.assertEqual(renamed(base, now), names)
        # Of two that are alike, nobody knows which is which.
        twins = base | {"steps": [{"name": "a", "op": "noise"}, {"name": "b", "op": "noise"}]}
        others = base | {"steps": [{"name": "c", "op": "noise"}, {"name": "d", "op": "noise"}]}
        self.assertEqual(renamed(twins, others), {})
