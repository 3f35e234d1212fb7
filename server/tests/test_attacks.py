"""Whatever is sent, the answer is a reason and never a fault of the server. The long form is `./run attack`."""

from __future__ import annotations

import json
import logging
import os
import random
import sys
import time
from typing import Any
from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import OperationalError
from server_support import ServerTest, exr_bytes, plate
from test_rights import MARKS, SUM, TEXTURE

from tools.mutating import mutated

TRIES = int(os.environ.get("NEXAL_ATTACKS", 400))
SEED = int(os.environ.get("NEXAL_SEED", time.time_ns() % 1_000_000))
MOST_SECONDS = 3.0
SOUND = (200, 201, 202, 204)
REFUSALS = (400, 403, 404, 409, 413, 422, 429, 507)


def recipes(story: dict[str, Any]) -> list[dict[str, Any]]:
    more = [
        {"name": "cut_out", "op": "stack", "in": {"under": "moth", "over": "cut"}, "set": {"mode": "screen"}},
        {"name": "soft", "op": "blur", "in": {"from": "cut"}, "set": {"radius": {"keys": [[1, 2], [5, 9, "smooth"]]}}},
        {"name": "moved", "op": "place", "in": {"picture": "soft"}, "set": {"x": 5.5, "rotate": 20, "scale": 1.2}},
        {"name": "small", "op": "resize", "in": {"from": "moved"}, "set": {"width": 20, "height": 10}},
        {"name": "math", "op": "formula", "in": {"a": "moth"}, "set": {"expressions": {"Y": "a.r * 2 + sin(x)"}}},
        {"name": "routed", "op": "route", "in": {"base": "moth"}, "set": {"to": {"m": {"from": "matte"}}}},
        {
            "name": "dabs",
            "op": "touch_up",
            "in": {"matte": "matte"},
            "set": {"strokes": [{"points": [[3, 4, 1]], "radius": 3}]},
        },
        {
            "name": "drawn",
            "op": "shape",
            "in": {"like": "moth"},
            "set": {"paths": [{"points": [[0, 0], [9, 0], [9, 9]]}]},
        },
        {"name": "listed", "op": "logic", "in": {"mattes": ["matte", "drawn"]}, "set": {"mode": "union"}},
        {"name": "grown", "op": "grow", "in": {"matte": "listed"}, "set": {"distance": 1.5}},
    ]
    return [story | {"steps": story["steps"] + more}, SUM, TEXTURE]


class Recipes(ServerTest):
    def test_mutated_recipes_on_every_route_that_takes_one(self) -> None:
        logging.getLogger("nexal").setLevel(logging.CRITICAL)
        self.addCleanup(logging.getLogger("nexal").setLevel, logging.INFO)
        self.upload()
        self.save(self.story())
        chance = random.Random(SEED)
        bases = recipes(self.story())
        asks: dict[str, dict[str, Any]] = {
            "inspect": {},
            "view": {"address": "grown", "scale": 2},
            "probe": {"addresses": ["soft", "grown"], "x": 3, "y": 3},
            "histogram": {"address": "math"},
            "scout": {"address": "moth", "marks": MARKS},
            "thin": {"item": "core"},
            "checks": {"item": "grown"},
            "audit": {"address": "moth"},
            "diagnose": {"address": "cut"},
            "profile": {"addresses": ["moved"], "start": [8, 8], "end": [40, 24]},
            "shares": {"item": "sum"},
            "slow": {"address": "cut"},
            "lit": {"packed": "texture", "size": 32},
            "proof": {"address": "texture"},
            "losses": {"address": "texture", "seen": "smaller"},
            "revisions": {"parent": 2},
            "deliverables": {"name": "x", "spec": {"from": "cut", "file": "cut.exr", "format": "exr"}},
        }
        took: list[tuple[float, str]] = []
        for number in range(TRIES):
            route = chance.choice(list(asks))
            body = {**asks[route], "recipe": chance.choice(bases)}
            whole = mutated(body, chance)
            if chance.random() < 0.7:
                whole = {**asks[route], "recipe": mutated(body["recipe"], chance)}
            began = time.monotonic()
            answer = self.api.post(f"/api/shots/{self.shot.pk}/{route}", whole)
            took.append((time.monotonic() - began, route))
            if answer.status_code not in (*SOUND, *REFUSALS):
                self.fail(f"seed {SEED}, {number}: {route} answered {answer.status_code}: {json.dumps(whole)[:3000]}")
            if answer.status_code in (422, 413):
                problem = answer.json()
                self.assertTrue(problem["message"], (route, whole))
            if route == "revisions" and answer.status_code == 200:
                # What was saved can be read.
                self.assertEqual(self.api.get(f"/api/shots/{self.shot.pk}").status_code, 200)
        seconds, route = max(took)
        if "NEXAL_ATTACKS" in os.environ:
            print(f"{TRIES} recipes (seed {SEED}): slowest {route}, {seconds:.2f} s", file=sys.stderr)
            self.assertLess(seconds, MOST_SECONDS, route)


class Bodies(ServerTest):
    def ask(self, body: bytes, route: str = "inspect", kind: str = "application/json") -> Any:
        return self.api.client.generic("POST", f"/api/shots/{self.shot.pk}/{route}", body, content_type=kind)

    def test_bodies_that_are_no_json_by_its_standard(self) -> None:
        for body in (
            b"",
            b"{",
            b"\xff\xfe",
            b'{"recipe": NaN}',
            b'{"recipe": {"nexal": 1, "steps": [{"name": "a", "op": "blur", "set": {"radius": Infinity}}]}}',
            b'{"recipe": {"nexal": 1e999}}',
            b'{"recipe": {"nexal": 1, "sources": {"a": {"files": "\\ud83c.exr"}}}}',
            b'{"frame": ' + b"9" * 5000 + b"}",
            b'{"frame": 99999999999999999999}',
            b"[" * 100_000,
            b'{"recipe": ' + b'{"a": ' * 300 + b"1" + b"}" * 301,
        ):
            with self.subTest(body[:60]):
                answer = self.ask(body)
                self.assertEqual(answer.status_code, 422, answer.content[:200])
                self.assertTrue(answer.json()["message"])

    def test_what_is_not_a_number_is_never_saved(self) -> None:
        recipe = '{"nexal": 1, "steps": [{"name": "n", "op": "noise", "set": {"scale": %s}}]}'
        for word in ("NaN", "-Infinity", "1e400"):
            body = f'{{"parent": 1, "recipe": {recipe % word}}}'.encode()
            self.assertEqual(self.ask(body, "revisions").status_code, 422)
        self.shot.refresh_from_db()
        self.assertEqual(self.shot.head.number, 1)

    def test_more_items_than_a_shot_holds_are_refused_for_drafts_too(self) -> None:
        steps = [{"name": f"n{number}", "op": "noise"} for number in range(501)]
        for route, body in (
            ("inspect", {}),
            ("view", {"address": "n1"}),
            ("revisions", {"parent": 1}),
        ):
            body["recipe"] = {"nexal": 1, "steps": steps}
            answer = self.api.post(f"/api/shots/{self.shot.pk}/{route}", body)
            self.assertEqual((answer.status_code, "500 items" in answer.json()["message"]), (422, True))

    def test_a_database_without_room_or_without_life_is_told(self) -> None:
        body = {"parent": 1, "recipe": {"nexal": 1}}
        for code, status, word in ((1021, 507, "disk"), (1114, 507, "disk"), (2006, 503, "unavailable")):
            fault = OperationalError(code, "made to fail")
            with self.subTest(code), mock.patch("recipes.services.save", side_effect=fault):
                answer = self.api.post(f"/api/shots/{self.shot.pk}/revisions", body)
                self.assertEqual((answer.status_code, answer.json()["code"]), (status, word))

    def test_names_that_the_database_takes_for_one_are_told(self) -> None:
        path = f"/api/projects/{self.project.pk}/shots"
        self.assertEqual(self.api.post(path, {"name": "Moth"}).status_code, 200)
        for name in ("moth", "möth", "MOTH"):
            answer = self.api.post(path, {"name": name})
            self.assertEqual(answer.status_code, 409, answer.content)

    def test_manifests_of_any_shape(self) -> None:
        path = f"/api/shots/{self.shot.pk}/sources/reassembled"
        for content in (
            b"[" * 50_000,
            b'{"a":' * 5000 + b"1" + b"}" * 5000,
            b"\xff",
            b"{}",
            b'{"nexal_channels": 1e999}',
        ):
            files = [SimpleUploadedFile("x.channels.json", content), SimpleUploadedFile("a.png", b"x")]
            with self.subTest(content[:20]):
                answer = self.api.client.post(path, {"files": files})
                self.assertEqual(answer.status_code, 422, answer.content[:200])
                self.assertTrue(answer.json()["remedy"])

    def test_a_long_chain_on_a_fresh_server(self) -> None:
        steps: list[dict[str, Any]] = [{"name": "n", "op": "noise", "set": {"width": 16, "height": 16}}]
        for number in range(480):
            steps.append({"name": f"s{number}", "op": "stretch", "in": {"from": steps[-1]["name"]}})
        body = {"recipe": {"nexal": 1, "steps": steps}}
        self.assertEqual(self.api.post(f"/api/shots/{self.shot.pk}/inspect", body).status_code, 200)
        answer = self.api.post(f"/api/shots/{self.shot.pk}/view", {**body, "address": "s479"})
        self.assertEqual(answer.status_code, 200)

    def test_forms_that_are_none(self) -> None:
        upload = f"/api/shots/{self.shot.pk}/sources"
        for kind, body in (
            ("multipart/form-data", b"x"),
            ("multipart/form-data; boundary=", b"x"),
            ("multipart/form-data; boundary=b", b"--c\r\n"),
            ("multipart/form-data; boundary=" + "b" * 300, b"x"),
            ("application/json", b"{}"),
        ):
            with self.subTest(kind):
                answer = self.api.client.generic("POST", upload, body, content_type=kind)
                self.assertIn(answer.status_code, (400, 422))
                self.assertTrue(answer.json()["message"])

    def test_names_of_any_length_and_script(self) -> None:
        for name in ("a" * 400 + ".exr", "月" * 120 + ".exr", "a." + "x" * 300, "\u202egnp.exr", "con\u0000.exr"):
            with self.subTest(name[:20]):
                row = self.upload(name, exr_bytes(plate(8, 8)))
                self.assertLessEqual(len(row["files"]), 200)
                self.assertEqual(row["state"], "ready")

    def test_channels_with_names_that_are_too_long(self) -> None:
        row = self.upload("long.exr", exr_bytes({"R" * 250: plate(8, 8)["R"]}))
        answer = self.api.post(
            f"/api/shots/{self.shot.pk}/inspect", {"recipe": {"nexal": 1, "sources": {"a": {"files": "long.exr"}}}}
        )
        self.assertEqual((row["state"], answer.status_code), ("ready", 200))

    def test_more_files_in_a_reassembly_than_a_form_may_have(self) -> None:
        files = [SimpleUploadedFile(f"c{number}.png", b"x") for number in range(150)]
        answer = self.api.client.post(f"/api/shots/{self.shot.pk}/sources/reassembled", {"files": files})
        self.assertIn(answer.status_code, (400, 422))
        self.assertTrue(answer.json()["message"])
