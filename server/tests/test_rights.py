"""Every route, walked as nobody, as a stranger and as a viewer: a route that is not in the table fails."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import Http404, HttpRequest
from django.test import Client
from django.urls import resolve
from django.utils import timezone
from server_support import ServerTest

from accounts.models import User
from chains.models import Chain
from config.api import api
from config.sessions import SessionStore
from deliveries import movies
from deliveries import services as delivery_services
from notes.models import Note
from projects.access import get_shot, seen_beside, seen_shot
from projects.models import Membership, Project, Role, Shot
from stage.requests import Ask, plan_of

OPEN = {
    ("GET", "/api/session"),
    ("POST", "/api/session"),
    ("GET", "/api/welcome/{person_id}/{token}"),
    ("POST", "/api/welcome/{person_id}/{token}"),
}
DELETED = {("POST", "/api/shots/{shot_id}/recovery"), ("POST", "/api/projects/{project_id}/recovery")}
"""Of what was deleted: see `test_wall` and `test_projects`."""
ADMINISTRATOR: dict[tuple[str, str], Any] = {
    ("GET", "/api/people"): None,
    ("POST", "/api/people"): {"username": "fern", "name": "Fern"},
    ("PUT", "/api/people/{person_id}"): {"active": False},
    ("POST", "/api/people/{person_id}/link"): None,
    ("GET", "/api/deeds"): None,
}
OWNER: dict[tuple[str, str], Any] = {
    ("PUT", "/api/projects/{project_id}"): {"name": "Day Conservatory"},
    ("DELETE", "/api/projects/{project_id}"): None,
    ("GET", "/api/projects/{project_id}/loss"): None,
    ("GET", "/api/projects/{project_id}/candidates"): None,
    ("POST", "/api/projects/{project_id}/members"): {"username": "stranger", "role": "owner"},
    ("PUT", "/api/projects/{project_id}/members/{user_id}"): {"role": "viewer"},
    ("DELETE", "/api/projects/{project_id}/members/{user_id}"): None,
}
OWN = {
    ("DELETE", "/api/session"),
    ("PUT", "/api/session/name"),
    ("PUT", "/api/session/password"),
    ("POST", "/api/faults"),
    ("GET", "/api/session/places"),
    ("DELETE", "/api/session/places/{place_id}"),
    ("GET", "/api/operations"),
    ("GET", "/api/formats"),
    ("GET", "/api/projects"),
    ("GET", "/api/deleted-projects"),
    ("POST", "/api/projects"),
}
TURNED = {"name": "turned", "op": "invert", "in": {"from": "matte"}}
WRITES = {
    ("POST", "/api/projects/{project_id}/shots"): {"name": "050 lantern"},
    ("PUT", "/api/projects/{project_id}/packing"): {"layouts": [], "finishes": []},
    ("POST", "/api/projects/{project_id}/chains"): {"name": "turned", "steps": [TURNED]},
    ("PUT", "/api/projects/{project_id}/chains/{chain_id}"): {"name": "turned"},
    ("DELETE", "/api/projects/{project_id}/chains/{chain_id}"): None,
    ("POST", "/api/shots/{shot_id}/sources"): None,
    ("POST", "/api/shots/{shot_id}/sources/reassembled"): None,
    ("POST", "/api/shots/{shot_id}/sources/manifest"): None,
    ("POST", "/api/shots/{shot_id}/sources/{source_id}/frames"): None,
    ("POST", "/api/shots/{shot_id}/sources/{source_id}/again"): None,
    ("POST", "/api/shots/{shot_id}/upload-tickets"): {"bytes": 10},
    ("DELETE", "/api/shots/{shot_id}/sources/{source_id}"): None,
    ("POST", "/api/shots/{shot_id}/revisions"): {"parent": 1, "recipe": {"nexal": 1}},
    ("POST", "/api/shots/{shot_id}/undo"): {"head": 1},
    ("POST", "/api/shots/{shot_id}/redo"): {"head": 1},
    ("POST", "/api/shots/{shot_id}/deliverables"): {"name": "x", "spec": {"from": "moth", "file": "x.exr"}},
    ("PUT", "/api/shots/{shot_id}/deliverables/{deliverable_id}"): {"from": "moth", "file": "y.exr"},
    ("DELETE", "/api/shots/{shot_id}/deliverables/{deliverable_id}"): None,
    ("POST", "/api/shots/{shot_id}/deliverables/{deliverable_id}/renders"): None,
    ("POST", "/api/shots/{shot_id}/renders/{render_id}"): {"wish": "pause"},
    ("POST", "/api/shots/{shot_id}/renders/{render_id}/movie"): {},
    ("PUT", "/api/shots/{shot_id}/revisions/{number}/name"): {"name": "first look"},
    ("PUT", "/api/shots/{shot_id}"): {"state": "done"},
    ("POST", "/api/shots/{shot_id}/copies"): {"name": "041 moth"},
    ("DELETE", "/api/shots/{shot_id}"): None,
    ("PUT", "/api/shots/{shot_id}/notes/{note_id}"): {"done": True},
    ("DELETE", "/api/shots/{shot_id}/notes/{note_id}"): None,
    ("PUT", "/api/shots/{shot_id}/range"): {"first": 1, "last": 24},
    ("DELETE", "/api/shots/{shot_id}/range"): None,
    ("POST", "/api/shots/{shot_id}/sequences"): {"files": "moth.%04d.exr"},
    ("PUT", "/api/shots/{shot_id}/marks"): {"marks": [{"side": "subject", "x": 3, "y": 3, "radius": 2}]},
    ("DELETE", "/api/shots/{shot_id}/slow/{item}"): None,
}
FILES = ("/sources", "/sources/reassembled", "/sources/manifest", "/sources/{source_id}/frames")
MARKS = [
    {"side": "subject", "x": 32, "y": 24, "radius": 4},
    {"side": "background", "x": 6, "y": 6, "radius": 4},
]
STEADY_ROW = {
    "frame": 1,
    "coverage": 0.5,
    "change": None,
    "still": 0.0,
    "flicker": None,
    "common": None,
    "judged": 0.0,
}
SUM = {
    "nexal": 1,
    "sources": {"moth": {"files": "moth.exr"}},
    "steps": [{"name": "sum", "op": "sum_passes", "in": {"passes": ["moth", "moth"]}}],
}
TEXTURE = {
    "nexal": 1,
    "steps": [
        {"name": "half", "op": "bay", "set": {"base": 0.5, "width": 8, "height": 8}},
        {"name": "texture", "op": "pack", "in": {"r": "half", "g": "half", "b": "half"}},
        {"name": "smaller", "op": "mip", "in": {"from": "texture"}},
    ],
}
READS: dict[tuple[str, str], Any] = {
    ("GET", "/api/shots/{shot_id}/delivered"): None,
    ("GET", "/api/shots/{shot_id}/notes"): None,
    # Who looks may say something: it changes nothing of the work.
    ("POST", "/api/shots/{shot_id}/notes"): {"text": "the fringe is green"},
    ("POST", "/api/shots/{shot_id}/notes/{note_id}/answers"): {"text": "not any more"},
    ("GET", "/api/shots/{shot_id}/news"): None,
    ("GET", "/api/projects/{project_id}"): None,
    ("GET", "/api/projects/{project_id}/members"): None,
    ("GET", "/api/projects/{project_id}/deleted"): None,
    ("GET", "/api/shots/{shot_id}/loss"): None,
    ("GET", "/api/projects/{project_id}/packing"): None,
    ("GET", "/api/projects/{project_id}/chains"): None,
    ("POST", "/api/shots/{shot_id}/lit"): {"recipe": TEXTURE, "packed": "texture", "size": 32},
    ("POST", "/api/shots/{shot_id}/proof"): {"recipe": TEXTURE, "address": "texture"},
    ("POST", "/api/shots/{shot_id}/proof/written"): {"recipe": TEXTURE, "address": "texture"},
    ("POST", "/api/shots/{shot_id}/losses"): {"recipe": TEXTURE, "address": "texture", "seen": "smaller"},
    ("GET", "/api/projects/{project_id}/shots"): None,
    ("GET", "/api/shots/{shot_id}"): None,
    ("GET", "/api/shots/{shot_id}/revisions"): None,
    ("GET", "/api/shots/{shot_id}/history"): None,
    ("GET", "/api/shots/{shot_id}/revisions/{number}"): None,
    ("GET", "/api/shots/{shot_id}/revisions/{number}/changes"): None,
    ("GET", "/api/shots/{shot_id}/recipe"): None,
    ("GET", "/api/shots/{shot_id}/sources"): None,
    ("GET", "/api/shots/{shot_id}/sources/{source_id}"): None,
    ("POST", "/api/shots/{shot_id}/inspect"): {},
    ("POST", "/api/shots/{shot_id}/view"): {"address": "cut"},
    ("POST", "/api/shots/{shot_id}/pictures"): {"addresses": ["cut"]},
    ("GET", "/api/shots/{shot_id}/revisions/{number}/view/{address}"): None,
    ("POST", "/api/shots/{shot_id}/probe"): {"addresses": ["cut"], "x": 3, "y": 3},
    ("POST", "/api/shots/{shot_id}/histogram"): {"address": "matte"},
    ("POST", "/api/shots/{shot_id}/scout"): {"address": "moth", "marks": MARKS},
    ("POST", "/api/shots/{shot_id}/thin"): {"item": "core"},
    ("POST", "/api/shots/{shot_id}/screen"): {"address": "moth"},
    ("POST", "/api/shots/{shot_id}/checks"): {"item": "matte"},
    ("GET", "/api/shots/{shot_id}/slow"): None,
    ("POST", "/api/shots/{shot_id}/audit"): {"address": "moth"},
    ("POST", "/api/shots/{shot_id}/doubts"): {"item": "moth"},
    ("POST", "/api/shots/{shot_id}/rebuilt"): {"item": "moth"},
    ("POST", "/api/shots/{shot_id}/diagnose"): {"address": "cut"},
    ("POST", "/api/shots/{shot_id}/follow"): {
        "address": "moth",
        "outline": [[4, 4], [60, 4], [60, 44], [4, 44]],
        "start": 1,
        "frames": [1],
        "model": "shift",
    },
    ("POST", "/api/shots/{shot_id}/steady"): {"address": "matte", "frames": [1, 2]},
    ("GET", "/api/projects/{project_id}/coming"): None,
    ("POST", "/api/shots/{shot_id}/steadiness"): {"rows": [STEADY_ROW]},
    ("POST", "/api/shots/{shot_id}/space"): {},
    ("POST", "/api/shots/{shot_id}/elevation"): {"address": "moth.R"},
    ("POST", "/api/shots/{shot_id}/locate"): {"x": 3, "y": 3, "depth": "moth.R"},
    ("POST", "/api/shots/{shot_id}/profile"): {"addresses": ["cut"], "start": [8, 8], "end": [40, 24]},
    ("POST", "/api/shots/{shot_id}/shares"): {"item": "sum", "recipe": SUM},
    ("POST", "/api/shots/{shot_id}/slow"): {"address": "cut"},
    ("GET", "/api/shots/{shot_id}/deliverables"): None,
    ("POST", "/api/shots/{shot_id}/announcement"): {"spec": {"from": "cut", "file": "cut.exr"}},
    ("GET", "/api/shots/{shot_id}/renders/{render_id}/file"): None,
    ("GET", "/api/shots/{shot_id}/renders/{render_id}/files"): None,
    ("GET", "/api/shots/{shot_id}/renders/{render_id}/movie"): None,
}


class Rights(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        source = self.upload()
        self.save(self.story())
        self.shot.refresh_from_db()
        deliverable = delivery_services.create(self.shot, "cut", {"from": "cut", "file": "cut.exr"})
        render = delivery_services.start(deliverable, self.owner.pk)
        movies.wish(render, 24, True)
        self.ids = {
            "project_id": self.project.pk,
            "shot_id": self.shot.pk,
            "source_id": source["id"],
            "number": 2,
            "chain_id": Chain.objects.create(project=self.project, name="soft", steps=[TURNED]).pk,
            "place_id": 1,
            "note_id": Note.objects.create(shot=self.shot, author=self.owner, text="look here").pk,
            "address": "cut",
            "item": "matte",
            "deliverable_id": deliverable.pk,
            "render_id": render.pk,
            "person_id": self.owner.pk,
            "user_id": self.owner.pk,
            "token": "guessed",
        }

    def routes(self) -> list[tuple[str, str]]:
        paths = api.get_openapi_schema(path_prefix="/api/")["paths"]
        return [(method.upper(), path) for path, methods in paths.items() for method in methods]

    def ask(self, user: Any, method: str, path: str, body: Any) -> int:
        return self.as_user(user).send(method, path.format(**self.ids), body).status_code

    def sent_by(self, user: Any, path: str) -> int:
        """Somebody sends a file to a route that takes files."""
        field = "files" if path.endswith("reassembled") else "file"
        files = {field: SimpleUploadedFile("x.exr", b"x"), "number": 3}
        return self.as_user(user).client.post(path.format(**self.ids), files).status_code

    def test_the_table_holds_every_route(self) -> None:
        self.assertEqual(
            set(self.routes()), OPEN | OWN | set(ADMINISTRATOR) | set(OWNER) | DELETED | set(WRITES) | set(READS)
        )

    def test_nobody_gets_in_anywhere(self) -> None:
        for method, path in self.routes():
            if (method, path) in OPEN:
                continue
            with self.subTest(f"{method} {path}"):
                body = (WRITES | READS | OWNER | ADMINISTRATOR).get((method, path))
                self.assertEqual(self.ask(None, method, path, body), 401)

    def test_a_stranger_is_told_that_there_is_nothing(self) -> None:
        for (method, path), body in (WRITES | READS | OWNER).items():
            with self.subTest(f"{method} {path}"):
                if method == "POST" and path.endswith(FILES):
                    self.assertEqual(self.sent_by(self.stranger, path), 404)
                else:
                    self.assertEqual(self.ask(self.stranger, method, path, body), 404)

    def test_a_viewer_sees_everything_and_changes_nothing(self) -> None:
        for (method, path), body in READS.items():
            with self.subTest(f"{method} {path}"):
                self.assertEqual(self.ask(self.viewer, method, path, body), 200)
        for (method, path), body in (WRITES | OWNER).items():
            with self.subTest(f"{method} {path}"):
                if method == "POST" and path.endswith(FILES):
                    self.assertEqual(self.sent_by(self.viewer, path), 403)
                else:
                    self.assertEqual(self.ask(self.viewer, method, path, body), 403)
        self.shot.refresh_from_db()
        self.assertEqual((self.shot.head.number, self.shot.deliverables.count(), self.shot.sources.count()), (2, 1, 1))

    def test_a_shot_that_is_seen_is_one_that_may_be_got(self) -> None:
        """Queries of three kinds say who may look at a shot: they say the same, whatever was deleted, of whomever."""

        def found(way: Callable[[HttpRequest, int], Shot], user: User, *, brought: bool = False) -> Any:
            request = HttpRequest()
            request.user = user
            if brought:
                client = Client()
                client.force_login(user)
                request.session = SessionStore(client.session.session_key)
                request.resolver_match = resolve(f"/api/shots/{self.shot.pk}/inspect")
                request.session.beside = seen_beside(request)
                self.assertEqual(request.session["_auth_user_id"], str(user.pk))
            try:
                shot = way(request, self.shot.pk)
            except Http404:
                return None
            return shot.pk, shot.role

        other = Project.objects.create(name="Day Conservatory")
        Membership.objects.create(project=other, user=self.stranger, role=Role.OWNER)
        seen = []
        for user, shot_gone, project_gone in itertools.product(
            (self.owner, self.viewer, self.stranger), (False, True), (False, True)
        ):
            now = timezone.now()
            Shot.objects.filter(pk=self.shot.pk).update(deleted=now if shot_gone else None)
            Project.objects.filter(pk=self.project.pk).update(deleted=now if project_gone else None)
            with self.subTest(user=user.username, shot_gone=shot_gone, project_gone=project_gone):
                self.assertEqual(found(seen_shot, user), found(get_shot, user))
                self.assertEqual(found(seen_shot, user, brought=True), found(get_shot, user))
                seen.append(found(seen_shot, user))
        self.assertEqual([one for one in seen if one], [(self.shot.pk, "owner"), (self.shot.pk, "viewer")])

    def test_a_shot_that_was_brought_along_is_only_for_whom_and_what_it_was_asked_for(self) -> None:
        other = Shot.objects.create(project=self.project, name="060 other")
        elsewhere = Shot.objects.create(project=Project.objects.create(name="Day Conservatory"), name="070 far")
        request = HttpRequest()
        request.session = SessionStore()
        for user, shot, role in (
            (self.owner, self.shot, "owner"),
            (self.viewer, self.shot, "viewer"),
            (self.viewer, other, "viewer"),
            (self.stranger, self.shot, None),
            (self.owner, elsewhere, None),
        ):
            request.user = user
            # What another person's session brought, or one of another address.
            request.session.brought = (self.shot, "owner", self.owner.pk)
            with self.subTest(user=user.username, shot=shot.name):
                if role is None:
                    self.assertRaises(Http404, seen_shot, request, shot.pk)
                else:
                    found = seen_shot(request, shot.pk)
                    self.assertEqual((found.pk, found.role), (shot.pk, role))

    def test_a_shot_that_goes_while_it_is_asked_about_is_not_there(self) -> None:
        request = HttpRequest()
        request.user = self.owner
        for gone in (10**9, None):
            shot = seen_shot(request, self.shot.pk)
            shot.head_id = gone
            with self.subTest(gone=gone):
                self.assertRaises(Http404, plan_of, shot, Ask(frame=1))

    def test_an_artist_does_not_say_who_works_here(self) -> None:
        self.project.memberships.filter(user=self.viewer).update(role=Role.ARTIST)
        for (method, path), body in OWNER.items():
            with self.subTest(f"{method} {path}"):
                self.assertEqual(self.ask(self.viewer, method, path, body), 403)

    def test_accounts_are_for_administrators(self) -> None:
        for (method, path), body in ADMINISTRATOR.items():
            with self.subTest(f"{method} {path}"):
                self.assertEqual(self.ask(self.owner, method, path, body), 403)
        for method in ("GET", "POST"):
            address = "/api/welcome/{person_id}/{token}"
            self.assertEqual(self.ask(None, method, address, {"password": "moonlit panes"}), 410)

    def test_ids_of_another_shot_lead_nowhere(self) -> None:
        other = self.api.post(f"/api/projects/{self.project.pk}/shots", {"name": "060 other"}).json()["id"]
        for (method, path), body in READS.items():
            if path.count("{") < 2 or "revisions" in path:
                continue
            with self.subTest(f"{method} {path}"):
                address = path.format(**(self.ids | {"shot_id": other}))
                self.assertEqual(self.api.send(method, address, body).status_code, 404)

    def test_another_shots_files_cannot_be_named_in_a_recipe(self) -> None:
        other = self.api.post(f"/api/projects/{self.project.pk}/shots", {"name": "060 other"}).json()["id"]
        for files in ("moth.exr", "/etc/passwd", "../1/moth.exr"):
            recipe = {"nexal": 1, "sources": {"moth": {"files": files}}}
            answer = self.api.post(f"/api/shots/{other}/view", {"recipe": recipe, "address": "moth"})
            self.assertEqual((answer.status_code, answer.json()["code"]), (422, "source"))

    def test_an_artist_may_work(self) -> None:
        self.project.memberships.filter(user=self.viewer).update(role=Role.ARTIST)
        body = {"parent": 2, "recipe": {"nexal": 1}}
        self.assertEqual(self.ask(self.viewer, "POST", "/api/shots/{shot_id}/revisions", body), 200)
