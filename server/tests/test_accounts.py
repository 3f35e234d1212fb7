"""Signing in and out, the limit on failures, CSRF, and the headers of every answer."""

from __future__ import annotations

import json
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

from django.contrib.sessions.models import Session
from django.db import connection
from django.test import Client, TransactionTestCase, override_settings
from django.utils import timezone
from server_support import PASSWORD, ServerTest

from accounts.models import Place, SignInAttempt, User

NEW = "a lantern at four in the morning"


class Own(ServerTest):
    """One's own name and password."""

    def put(self, client: Client, path: str, body: dict) -> object:
        return client.put(f"/api/session/{path}", json.dumps(body), content_type="application/json")

    def signed_in(self, password: str = PASSWORD) -> Client:
        client = Client()
        body = json.dumps({"username": "owner", "password": password})
        self.assertEqual(client.post("/api/session", body, content_type="application/json").status_code, 200)
        return client

    def test_a_name_is_what_others_see(self) -> None:
        client = self.signed_in()
        answer = self.put(client, "name", {"name": "  Mira \n of the Night  "})
        self.assertEqual(answer.json()["name"], "Mira of the Night")
        self.assertEqual(client.get("/api/session").json()["person"]["name"], "Mira of the Night")
        for wrong in ("", "   ", "x" * 151):
            self.assertEqual(self.put(client, "name", {"name": wrong}).status_code, 422)

    def test_a_password_is_changed_by_who_knows_it_and_ends_all_other_sessions(self) -> None:
        here, elsewhere = self.signed_in(), self.signed_in()
        wrong = self.put(here, "password", {"old": "wrong", "new": NEW})
        self.assertEqual((wrong.status_code, wrong.json()["where"]), (403, "old"))
        for easy in ("short", "password1", ""):
            answer = self.put(here, "password", {"old": PASSWORD, "new": easy})
            self.assertEqual((answer.status_code, answer.json()["where"]), (422, "new"), easy)
        self.assertEqual(elsewhere.get("/api/projects").status_code, 200)
        self.assertEqual(self.put(here, "password", {"old": PASSWORD, "new": NEW}).status_code, 200)
        self.assertEqual(here.get("/api/projects").status_code, 200)
        self.assertEqual(elsewhere.get("/api/projects").status_code, 401)
        self.signed_in(NEW)

    def test_one_sees_where_one_is_signed_in_and_ends_it_from_elsewhere(self) -> None:
        here, elsewhere = self.signed_in(), self.signed_in()
        theirs = Client()
        theirs.force_login(self.viewer)
        rows = here.get("/api/session/places").json()
        # Two browsers of one's own (and the test's own client), nobody else's.
        self.assertEqual([row["here"] for row in rows].count(True), 1)
        self.assertEqual(Place.objects.filter(user=self.owner).count(), len(rows))
        other = next(row["id"] for row in elsewhere.get("/api/session/places").json() if row["here"])
        self.assertEqual(theirs.delete(f"/api/session/places/{other}").status_code, 404)
        self.assertEqual(here.delete(f"/api/session/places/{other}").status_code, 204)
        self.assertEqual(elsewhere.get("/api/projects").status_code, 401)
        self.assertEqual(here.get("/api/projects").status_code, 200)
        self.assertEqual(here.delete(f"/api/session/places/{other}").status_code, 404)
        # After another password nothing else is left, and this one is still known.
        self.put(here, "password", {"old": PASSWORD, "new": NEW})
        self.assertEqual([row["here"] for row in here.get("/api/session/places").json()], [True])
        here.delete("/api/session")
        self.assertFalse(Place.objects.filter(user=self.owner).exists())

    def test_whoever_sets_another_password_ends_what_is_listed(self) -> None:
        self.signed_in()
        self.owner.set_password(NEW)
        self.owner.save()
        here = self.signed_in(NEW)
        self.assertEqual([row["here"] for row in here.get("/api/session/places").json()], [True])

    def test_a_session_ends_with_its_time_and_with_its_person(self) -> None:
        for end in (
            lambda key: Session.objects.filter(session_key=key).update(expire_date=timezone.now()),
            lambda key: Session.objects.filter(session_key=key).delete(),
            lambda key: User.objects.filter(username="owner").update(is_active=False),
        ):
            client = self.signed_in()
            self.assertIsNotNone(client.get("/api/session").json()["person"])
            end(client.session.session_key)
            self.assertIsNone(client.get("/api/session").json()["person"])
            self.assertEqual(client.get("/api/projects").status_code, 401)

    def test_a_place_is_seen_again_and_forgotten_when_its_session_ends(self) -> None:
        client = self.signed_in()
        place = Place.objects.get(session=client.session.session_key)
        Place.objects.filter(pk=place.pk).update(seen=timezone.now() - timedelta(days=2))
        client.get("/api/session")
        place.refresh_from_db()
        self.assertLess(timezone.now() - place.seen, timedelta(minutes=1))
        Session.objects.filter(session_key=place.session).update(expire_date=timezone.now() - timedelta(days=1))
        self.signed_in().get("/api/session/places")
        self.assertFalse(Place.objects.filter(pk=place.pk).exists())

    @override_settings(NEXAL_SIGN_IN_FAILURES=3)
    def test_an_open_browser_is_no_place_to_guess_at(self) -> None:
        client = self.signed_in()
        for _ in range(3):
            self.assertEqual(self.put(client, "password", {"old": "wrong", "new": NEW}).status_code, 403)
        answer = self.put(client, "password", {"old": PASSWORD, "new": NEW})
        self.assertEqual((answer.status_code, answer.json()["code"]), (429, "too_many"))


class SignIn(ServerTest):
    def attempt(self, password: str, username: str = "owner", client: Client | None = None) -> object:
        client = client or Client()
        body = json.dumps({"username": username, "password": password})
        return client.post("/api/session", body, content_type="application/json")

    def test_in_and_out(self) -> None:
        client = Client()
        self.assertIsNone(client.get("/api/session").json()["person"])
        answer = self.attempt(PASSWORD, client=client)
        self.assertEqual(answer.json()["person"]["username"], "owner")
        self.assertEqual(client.get("/api/projects").status_code, 200)
        self.assertEqual(client.delete("/api/session").status_code, 204)
        self.assertEqual(client.get("/api/projects").status_code, 401)

    def test_a_wrong_password_does_not_say_whether_the_name_exists(self) -> None:
        known, unknown = self.attempt("wrong"), self.attempt("wrong", "nobody")
        self.assertEqual((known.status_code, known.json()), (unknown.status_code, unknown.json()))
        self.assertEqual(known.status_code, 401)

    @override_settings(NEXAL_SIGN_IN_FAILURES=3)
    def test_after_too_many_failures_even_the_right_password_waits(self) -> None:
        for _ in range(3):
            self.assertEqual(self.attempt("wrong").status_code, 401)
        answer = self.attempt(PASSWORD)
        self.assertEqual((answer.status_code, answer.json()["code"]), (429, "too_many"))
        self.assertEqual(self.attempt(PASSWORD, "viewer").status_code, 200)
        SignInAttempt.objects.update(at="2020-01-01T00:00:00Z")
        self.assertEqual(self.attempt(PASSWORD).status_code, 200)

    @override_settings(NEXAL_SIGN_IN_FAILURES=1)
    def test_one_address_cannot_try_many_names(self) -> None:
        for number in range(6):
            self.attempt("wrong", f"name{number}")
        self.assertEqual(self.attempt(PASSWORD).status_code, 429)

    @override_settings(NEXAL_SIGN_IN_FAILURES=2)
    def test_a_house_is_never_locked_out_by_one_of_its_own(self) -> None:
        """Everybody behind one address, such as a proxy's; the owner has signed in from this browser before."""
        browser = Client()
        self.assertEqual(self.attempt(PASSWORD, client=browser).status_code, 200)
        browser.delete("/api/session")
        for number in range(20):
            self.attempt("wrong", f"name{number}")
            self.attempt("wrong", "owner")
        self.assertEqual(self.attempt(PASSWORD, "viewer").status_code, 429)
        self.assertEqual(self.attempt(PASSWORD, client=browser).status_code, 200)
        # Its own failures count, and a sign for one person is none for another.
        for _ in range(2):
            self.assertEqual(self.attempt("wrong", client=browser).status_code, 401)
        self.assertEqual(self.attempt(PASSWORD, client=browser).status_code, 429)
        self.assertEqual(self.attempt(PASSWORD, "viewer", client=browser).status_code, 429)

    @override_settings(NEXAL_SIGN_IN_FAILURES=2)
    def test_one_name_cannot_be_tried_from_everywhere(self) -> None:
        for number in range(8):
            client = Client(REMOTE_ADDR=f"10.0.0.{number}")
            self.assertEqual(self.attempt("wrong", client=client).status_code, 401)
        self.assertEqual(self.attempt(PASSWORD, client=Client(REMOTE_ADDR="10.0.0.99")).status_code, 429)

    def test_changes_need_the_token(self) -> None:
        client = Client(enforce_csrf_checks=True)
        self.assertEqual(self.attempt(PASSWORD, client=client).status_code, 403)
        token = client.get("/api/session").json()["csrf"]
        body = json.dumps({"username": "owner", "password": PASSWORD})
        headers = {"X-CSRFToken": token}
        answer = client.post("/api/session", body, content_type="application/json", headers=headers)
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(client.post("/api/projects", "{}", content_type="application/json").status_code, 403)
        self.assertEqual(client.delete("/api/session").status_code, 403)


class Together(TransactionTestCase):
    @override_settings(NEXAL_SIGN_IN_FAILURES=5)
    def test_many_at_once_are_counted_before_their_passwords_are_looked_at(self) -> None:
        User.objects.create_user("owner", password=PASSWORD)
        body = json.dumps({"username": "owner", "password": "wrong"})

        def attempt(_: int) -> int:
            try:
                return Client().post("/api/session", body, content_type="application/json").status_code
            finally:
                connection.close()

        with ThreadPoolExecutor(12) as pool:
            ends = Counter(pool.map(attempt, range(24)))
        self.assertEqual(ends, {401: 5, 429: 19})


class Answers(ServerTest):
    def test_policy_and_headers(self) -> None:
        answer = self.client.get("/api/session")
        policy = dict(part.split(" ", 1) for part in answer["Content-Security-Policy"].split("; "))
        self.assertEqual(policy["default-src"], "'none'")
        self.assertEqual(policy["script-src"], "'self'")
        self.assertEqual((answer["X-Frame-Options"], answer["X-Content-Type-Options"]), ("DENY", "nosniff"))

    def test_static_files_carry_them_too(self) -> None:
        folder = Path(self.enterContext(TemporaryDirectory()))
        (folder / "a.js").write_text("1")
        with override_settings(STATIC_ROOT=folder, WHITENOISE_AUTOREFRESH=False, WHITENOISE_USE_FINDERS=False):
            answer = Client().get("/static/a.js")
        self.assertEqual((answer.status_code, answer["X-Content-Type-Options"]), (200, "nosniff"))
        self.assertIn("default-src 'none'", answer["Content-Security-Policy"])
        self.assertFalse(answer.has_header("Access-Control-Allow-Origin"))

    def test_every_error_has_the_one_shape(self) -> None:
        for answer in (
            self.api.get("/api/projects/999999"),
            self.api.send("POST", "/api/projects", {"nome": "x"}),
            self.api.client.generic("POST", "/api/projects", b"{not json", content_type="application/json"),
            self.as_user(None).get("/api/projects"),
            self.api.get(f"/api/shots/{self.shot.pk}/revisions/99/view/x"),
        ):
            self.assertGreaterEqual(answer.status_code, 400)
            self.assertEqual(set(answer.json()), {"code", "message", "where", "remedy"}, answer.content)

    def test_projects_and_shots(self) -> None:
        made = self.api.post("/api/projects", {"name": "Second house"}).json()
        self.assertEqual((made["role"], made["shots"]), ("owner", 0))
        self.assertEqual(len(self.api.get("/api/projects").json()), 2)
        shots = f"/api/projects/{made['id']}/shots"
        self.assertEqual(self.api.post(shots, {"name": "010 door"}).json()["revision"], 1)
        again = self.api.post(shots, {"name": "010 door"})
        self.assertEqual((again.status_code, again.json()["code"]), (409, "name_taken"))
        self.assertEqual([row["name"] for row in self.api.get(shots).json()], ["010 door"])
        self.assertEqual(self.api.post(shots, {"name": ""}).status_code, 422)


class Faults(ServerTest):
    def test_what_stopped_a_page_goes_to_the_log_in_one_line(self) -> None:
        told = {"message": "l is not a\nfunction", "did": "clicked\r\nEdges"}
        body = told | {"stack": "at x\n at y", "page": "/shots/1"}
        with self.assertLogs("nexal.browser", "ERROR") as logs:
            self.assertEqual(self.api.post("/api/faults", body).status_code, 204)
        self.assertEqual(len(logs.output), 1)
        self.assertNotIn("\n", logs.output[0])
        for word in ("l is not a function", "/shots/1", "clicked Edges", self.owner.username):
            self.assertIn(word, logs.output[0])
        self.assertEqual(self.api.post("/api/faults", body).status_code, 429)
        self.assertEqual(self.api.post("/api/faults", body | {"stack": "x" * 9000}).status_code, 422)
