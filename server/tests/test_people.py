"""Accounts as an administrator keeps them, and who works in a project."""

from __future__ import annotations

from typing import Any
from unittest import mock

from django.contrib.auth.tokens import PasswordResetTokenGenerator
from django.http import HttpResponse
from server_support import PASSWORD, ServerTest

from accounts.models import Deed, User
from projects.models import Membership, Role


class PeopleTest(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.keeper = User.objects.create_user("keeper", password=PASSWORD, is_staff=True)

    def by(self, user: Any, method: str, path: str, body: Any = None) -> HttpResponse:
        return self.as_user(user).send(method, path, body)

    def refused(self, answer: HttpResponse, status: int, code: str) -> str:
        told = answer.json()
        self.assertEqual((answer.status_code, told["code"]), (status, code), told)
        self.assertTrue(told["remedy"])
        return str(told["message"])


class Accounts(PeopleTest):
    def add(self, **more: Any) -> HttpResponse:
        return self.by(self.keeper, "POST", "/api/people", {"username": "fern", "name": "Fern Frond"} | more)

    def test_somebody_added_chooses_a_password_by_a_link_that_is_good_once(self) -> None:
        answer = self.add().json()
        self.assertEqual((answer["person"]["name"], answer["person"]["invited"]), ("Fern Frond", True))
        path = f"/api{answer['link']}"
        self.assertEqual(self.by(None, "GET", path).json(), {"username": "fern", "name": "Fern Frond"})
        self.refused(self.by(None, "POST", path, {"password": "fern"}), 422, "password")
        chosen = self.by(None, "POST", path, {"password": "moonlit panes"})
        self.assertEqual(chosen.json()["person"]["username"], "fern")
        self.assertTrue(User.objects.get(username="fern").check_password("moonlit panes"))
        for method in ("GET", "POST"):
            self.refused(self.by(None, method, path, {"password": "stolen panes 9"}), 410, "link")

    def test_a_link_grows_old_and_is_for_one_person(self) -> None:
        link = f"/api{self.add().json()['link']}"
        other = self.add(username="moth", name="Moth").json()["person"]["id"]
        token = link.rpartition("/")[2]
        self.refused(self.by(None, "GET", f"/api/welcome/{other}/{token}"), 410, "link")
        later = PasswordResetTokenGenerator()._now().replace(year=2099)
        with mock.patch.object(PasswordResetTokenGenerator, "_now", return_value=later):
            self.refused(self.by(None, "POST", link, {"password": "moonlit panes"}), 410, "link")

    def test_a_first_password_may_be_given(self) -> None:
        answer = self.add(password="moonlit panes", administrator=True).json()
        self.assertEqual((answer["link"], answer["person"]["administrator"]), (None, True))
        self.assertEqual(self.by(User.objects.get(username="fern"), "GET", "/api/people").status_code, 200)
        self.refused(self.add(username="moth", password="123"), 422, "password")
        self.assertFalse(User.objects.filter(username="moth").exists())

    def test_bad_names(self) -> None:
        self.refused(self.add(username="fern frond"), 422, "name")
        self.refused(self.add(username="<b>fern</b>"), 422, "name")
        self.refused(self.add(name="   "), 422, "name")
        self.assertEqual(self.add(username="f" * 10_000).status_code, 422)
        self.assertEqual(self.add(username="").status_code, 422)
        self.add()
        self.refused(self.add(), 409, "name_taken")
        self.refused(self.add(username="FERN"), 409, "name_taken")

    def test_turned_off_everything_of_theirs_ends_at_once(self) -> None:
        client = self.as_user(self.owner)
        path = f"/api/people/{self.owner.pk}"
        self.assertEqual(client.get("/api/projects").status_code, 200)
        self.assertFalse(self.by(self.keeper, "PUT", path, {"active": False}).json()["active"])
        self.assertEqual(client.get("/api/projects").status_code, 401)
        self.assertEqual(self.sign_in("owner").status_code, 401)
        self.by(self.keeper, "PUT", path, {"active": True})
        self.assertEqual(self.sign_in("owner").status_code, 200)

    def sign_in(self, name: str) -> HttpResponse:
        return self.by(None, "POST", "/api/session", {"username": name, "password": PASSWORD})

    def test_a_new_link_ends_sessions_and_the_old_password(self) -> None:
        client = self.as_user(self.owner)
        self.assertEqual(client.get("/api/projects").status_code, 200)
        link = self.by(self.keeper, "POST", f"/api/people/{self.owner.pk}/link").json()["link"]
        self.assertEqual(client.get("/api/projects").status_code, 401)
        self.assertEqual(self.sign_in("owner").status_code, 401)
        self.assertEqual(self.by(None, "POST", f"/api{link}", {"password": "moonlit panes"}).status_code, 200)

    def test_nobody_takes_their_own_right(self) -> None:
        own = f"/api/people/{self.keeper.pk}"
        self.refused(self.by(self.keeper, "PUT", own, {"active": False}), 409, "yourself")
        self.refused(self.by(self.keeper, "PUT", own, {"administrator": False}), 409, "yourself")
        self.refused(self.by(self.keeper, "POST", f"{own}/link"), 409, "yourself")
        self.assertEqual(self.by(self.keeper, "PUT", own, {"name": "Keeper"}).json()["name"], "Keeper")
        self.assertEqual(self.by(self.keeper, "PUT", "/api/people/999999", {"active": False}).status_code, 404)

    def test_what_was_done_is_written_down(self) -> None:
        self.add()
        self.by(self.keeper, "PUT", f"/api/people/{self.owner.pk}", {"active": False, "administrator": True})
        told = [row["sentence"] for row in self.by(self.keeper, "GET", "/api/deeds").json()]
        self.assertEqual(told, ["made owner an administrator", "turned owner off", "added fern"])
        for number in range(60):
            Deed.objects.create(who="keeper", sentence=str(number))
        first = self.by(self.keeper, "GET", "/api/deeds").json()
        rest = self.by(self.keeper, "GET", f"/api/deeds?before={first[-1]['id']}").json()
        self.assertEqual((len(first), len(rest), rest[-1]["sentence"]), (50, 13, "added fern"))


class Members(PeopleTest):
    def path(self, user: Any = None) -> str:
        return f"/api/projects/{self.project.pk}/members{f'/{user.pk}' if user else ''}"

    def test_let_in_given_a_role_and_put_out(self) -> None:
        self.assertEqual(self.by(self.stranger, "GET", self.path()).status_code, 404)
        offered = self.by(self.owner, "GET", f"/api/projects/{self.project.pk}/candidates").json()
        self.assertEqual([row["username"] for row in offered], ["keeper", "stranger"])
        rows = self.by(self.owner, "POST", self.path(), {"username": "stranger", "role": "viewer"}).json()
        self.assertEqual(
            [(row["username"], row["role"]) for row in rows][1:], [("stranger", "viewer"), ("viewer", "viewer")]
        )
        new = {"name": "050 lantern"}
        shots = f"/api/projects/{self.project.pk}/shots"
        self.refused(self.by(self.stranger, "POST", shots, new), 403, "forbidden")
        self.by(self.owner, "PUT", self.path(self.stranger), {"role": "artist"})
        self.assertEqual(self.by(self.stranger, "POST", shots, new).status_code, 200)
        self.assertEqual(self.by(self.owner, "DELETE", self.path(self.stranger)).status_code, 204)
        self.assertEqual(self.by(self.stranger, "GET", shots).status_code, 404)
        told = [deed.sentence for deed in Deed.objects.all()]
        self.assertEqual(
            told,
            [
                "put stranger out of the project 'Night Conservatory'",
                "made stranger artist of the project 'Night Conservatory'",
                "let stranger into the project 'Night Conservatory' as viewer",
            ],
        )

    def test_bad_requests(self) -> None:
        ask = lambda body: self.by(self.owner, "POST", self.path(), body)  # noqa: E731
        self.refused(ask({"username": "nobody at all", "role": "viewer"}), 422, "nobody")
        self.refused(ask({"username": "viewer", "role": "owner"}), 409, "member")
        self.assertEqual(Membership.objects.get(user=self.viewer).role, Role.VIEWER)
        self.assertEqual(ask({"username": "stranger", "role": "king"}).status_code, 422)
        User.objects.filter(pk=self.stranger.pk).update(is_active=False)
        self.refused(ask({"username": "stranger", "role": "viewer"}), 422, "nobody")
        self.assertEqual(self.by(self.owner, "PUT", self.path(self.stranger), {"role": "viewer"}).status_code, 404)

    def test_the_last_owner_stays(self) -> None:
        self.refused(self.by(self.owner, "PUT", self.path(self.owner), {"role": "viewer"}), 409, "last_owner")
        self.refused(self.by(self.owner, "DELETE", self.path(self.owner)), 409, "last_owner")
        self.by(self.owner, "PUT", self.path(self.viewer), {"role": "owner"})
        self.assertEqual(self.by(self.owner, "PUT", self.path(self.owner), {"role": "viewer"}).status_code, 200)
        self.refused(self.by(self.owner, "PUT", self.path(self.owner), {"role": "owner"}), 403, "forbidden")
        self.refused(self.by(self.viewer, "DELETE", self.path(self.viewer)), 409, "last_owner")

    def test_of_two_owners_that_put_each_other_out_one_stays(self) -> None:
        """Both were let through before either was done."""
        self.by(self.owner, "PUT", self.path(self.viewer), {"role": "owner"})
        from projects import members

        def let_through(*asked: Any, **more: Any) -> Any:
            found = members_get_project(*asked, **more)
            if not put_out:
                put_out.append(True)
                self.assertEqual(self.by(self.viewer, "DELETE", self.path(self.owner)).status_code, 204)
            return found

        members_get_project, put_out = members.get_project, []
        with mock.patch.object(members, "get_project", let_through):
            answer = self.by(self.owner, "DELETE", self.path(self.viewer))
        self.assertEqual(answer.status_code, 404)
        self.assertEqual([each.user.username for each in self.project.memberships.all()], ["viewer"])

    def test_anybody_may_leave(self) -> None:
        self.assertEqual(self.by(self.viewer, "DELETE", self.path(self.viewer)).status_code, 204)
        self.assertEqual(self.by(self.viewer, "GET", self.path()).status_code, 404)
