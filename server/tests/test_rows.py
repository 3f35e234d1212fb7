"""What every request begins with: rows by written queries, who asks, and the connection that they come over."""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from unittest import mock

from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY
from django.contrib.sessions.models import Session
from django.db import IntegrityError, OperationalError, connection, connections, transaction
from django.db.backends.mysql.base import DatabaseWrapper
from django.test import Client, SimpleTestCase, TestCase, TransactionTestCase
from django.utils import timezone
from server_support import PASSWORD, Api, Served, ServerTest

from accounts.models import Place, User
from config import rows as written
from config.database import base, writes
from config.rows import rows
from projects.models import Membership, Project, Shot
from recipes.models import Revision
from sources.models import Source


class Rows(ServerTest):
    def test_rows_are_what_django_makes_of_them(self) -> None:
        self.upload()
        Source.objects.update(problem={"message": "was read", "numbers": [1, 2.5, None]}, rate=23.976)
        Shot.objects.update(deleted=timezone.now())
        for model in (User, Session, Place, Project, Membership, Shot, Revision, Source):
            told = {row.pk: row for row in model._default_manager.all()}
            table = connection.ops.quote_name(model._meta.db_table)
            found = [row for (row,) in rows(f"FROM {table}", [], model)]
            with self.subTest(model=model.__name__):
                self.assertTrue(told)
                self.assertEqual({row.pk for row in found}, set(told))
                for row in found:
                    for field in model._meta.concrete_fields:
                        value, wanted = getattr(row, field.attname), getattr(told[row.pk], field.attname)
                        self.assertEqual((value, type(value)), (wanted, type(wanted)), field.attname)
                # They are Django's in all else too: saved, they are the same rows.
                found[0].save()
                self.assertEqual(model._default_manager.count(), len(told))

    def test_of_each_row_what_is_wanted_in_that_order(self) -> None:
        query = """
        FROM projects_shot
        LEFT JOIN projects_membership ON projects_membership.project_id = projects_shot.project_id
          AND projects_membership.user_id = %s
        WHERE projects_shot.id = %s"""
        wanted = ("projects_membership.role", Shot, Membership, "projects_shot.id")
        ((role, shot, membership, key),) = rows(query, [self.viewer.pk, self.shot.pk], *wanted)
        self.assertEqual((role, shot, key), ("viewer", self.shot, self.shot.pk))
        self.assertEqual((membership.user_id, membership.role), (self.viewer.pk, "viewer"))
        ((role, shot, membership, key),) = rows(query, [self.stranger.pk, self.shot.pk], *wanted)
        self.assertEqual((role, shot, membership, key), (None, self.shot, None, self.shot.pk))
        self.assertEqual(rows(query, [self.viewer.pk, 0], *wanted), [])


class WhoAsks(ServerTest):
    """A session brings along who signed in with it; that they still are is looked at as Django does."""

    def who(self, client: Client) -> str | None:
        person = client.get("/api/session").json()["person"]
        code = client.get("/api/projects").status_code
        self.assertEqual(code, 200 if person else 401)
        return person["username"] if person else None

    def signed_in(self) -> Client:
        client = Client()
        client.force_login(self.owner)
        self.assertEqual(self.who(client), "owner")
        return client

    def test_a_drag_asks_two_questions(self) -> None:
        self.upload()
        ask = {"recipe": self.story(), "address": "cut", "view": "drag"}
        # Who asks, with the shot and their role in it; its sources.
        with self.assertNumQueries(2):
            self.assertEqual(self.api.post(f"/api/shots/{self.shot.pk}/view", ask).status_code, 200)

    def test_whatever_was_noted_of_a_session_only_its_own_person_asks(self) -> None:
        for change, who in (
            (lambda place: place.delete(), "owner"),
            (lambda place: Place.objects.filter(pk=place.pk).update(user=self.viewer), "owner"),
            (lambda place: Place.objects.filter(pk=place.pk).update(session="another"), "owner"),
            (lambda _: User.objects.filter(pk=self.owner.pk).update(password="another"), None),
            (lambda _: User.objects.filter(pk=self.owner.pk).update(is_active=False), None),
        ):
            client = self.signed_in()
            change(Place.objects.get(session=client.session.session_key))
            self.assertEqual(self.who(client), who)
            self.owner.save()

    def test_a_session_without_its_sign_its_person_or_its_way_in_is_nobodys(self) -> None:
        for key, value in itertools.product((SESSION_KEY, HASH_SESSION_KEY, BACKEND_SESSION_KEY), ("0", None)):
            client = self.signed_in()
            session = client.session
            if value is None:
                del session[key]
            else:
                session[key] = value
            session.save()
            with self.subTest(key=key, value=value):
                self.assertIsNone(self.who(client))

    def test_a_session_that_is_over_brings_nobody(self) -> None:
        client = self.signed_in()
        Session.objects.update(expire_date=timezone.now() - timedelta(seconds=1))
        self.assertIsNone(self.who(client))


class Believed(Served, TransactionTestCase):
    """What was answered within a second is not asked again, unless something was written."""

    def setUp(self) -> None:
        super().setUp()
        self.clock = self.enterContext(mock.patch.object(written.time, "monotonic", return_value=1000.0))
        self.enterContext(mock.patch.dict(written._answers, clear=True))
        self.enterContext(mock.patch.object(written, "_swept", 0.0))

    def name(self) -> str:
        return rows("FROM projects_shot WHERE projects_shot.id = %s", [self.shot.pk], Shot)[0][0].name

    def rename(self, name: str) -> None:
        Shot.objects.filter(pk=self.shot.pk).update(name=name)

    @contextmanager
    def asks(self, count: int) -> Iterator[None]:
        with self.assertNumQueries(count):
            yield

    def test_a_second_long_and_no_longer(self) -> None:
        for after, count in ((0, 1), (0.5, 0), (0.4, 0), (0.2, 1), (0.9, 0), (7, 1)):
            self.clock.return_value += after
            with self.subTest(after=after), self.asks(count):
                self.assertEqual(self.name(), "040 moth")
        # Nothing is kept of what nobody asks for any more.
        self.clock.return_value += 5
        rows("FROM projects_shot", [], "projects_shot.id")
        self.assertEqual(len(written._answers), 1)

    def test_rows_are_made_anew_each_time(self) -> None:
        first, second = (rows("FROM projects_shot", [], Shot)[0][0] for _ in range(2))
        first.name = "of one request alone"
        self.assertEqual(second.name, "040 moth")

    def test_what_is_written_is_seen_at_once(self) -> None:
        shot = Shot.objects.get(pk=self.shot.pk)
        for number, write in enumerate(
            (
                self.rename,
                lambda name: Shot.objects.bulk_update([Shot(pk=shot.pk, name=name)], ["name"]),
                lambda name: connection.cursor().execute(f" update projects_shot SET name = '{name}'"),
                lambda name: connection.cursor().executemany("UPDATE projects_shot SET name = %s", [("x",), (name,)]),
            )
        ):
            self.name()
            write(f"{number} fern")
            self.assertEqual(self.name(), f"{number} fern")
        self.name()
        self.name()
        Shot.objects.update(head=None)
        Revision.objects.all().delete()
        Shot.objects.all().delete()
        self.assertRaises(IndexError, self.name)

    def test_what_is_not_committed_is_its_own_transactions_alone(self) -> None:
        told: list[str] = []
        begun, go_on = threading.Event(), threading.Event()

        def work() -> None:
            with transaction.atomic():
                self.rename("050 fern")
                told.append(self.name())
                begun.set()
                go_on.wait(20)
            connection.close()

        self.assertEqual(self.name(), "040 moth")
        thread = threading.Thread(target=work)
        thread.start()
        begun.wait(20)
        self.assertEqual(self.name(), "040 moth")
        go_on.set()
        thread.join(20)
        self.assertEqual((told, self.name()), (["050 fern"], "050 fern"))

    def test_what_is_undone_was_never_told_to_anybody(self) -> None:
        with transaction.atomic():
            self.rename("050 fern")
            self.assertEqual(self.name(), "050 fern")
            transaction.set_rollback(True)
        self.assertEqual(self.name(), "040 moth")

    def test_only_what_may_have_changed_something_counts(self) -> None:
        before = writes.so_far()
        self.name()
        with transaction.atomic():
            list(Shot.objects.select_for_update())
        self.assertEqual(writes.so_far(), before)
        # What failed may be there all the same: only the answer may have been lost.
        with self.assertRaises(IntegrityError):
            Membership.objects.create(project=self.project, user=self.owner, role="viewer")
        self.assertGreater(writes.so_far(), before)

    def test_processes_count_together(self) -> None:
        counts = writes._counts
        self.addCleanup(setattr, writes, "_counts", counts)
        writes.share(3)
        for number in (1, 2, 1):
            child = os.fork()
            if child == 0:
                writes.count_as(number)
                writes.note()
                os._exit(0)
            self.assertEqual(os.waitpid(child, 0)[1], 0)
        writes.note()
        self.assertEqual((writes.so_far(), list(writes._counts)), (4, [1, 2, 1]))

    def test_a_drag_asks_nothing_until_they_may_no_longer(self) -> None:
        self.upload()
        ask = {"recipe": self.story(), "address": "cut", "view": "drag"}

        def look(api: Api) -> int:
            return api.post(f"/api/shots/{self.shot.pk}/view", ask).status_code

        for change, status in (
            (lambda api: api.delete("/api/session"), 401),
            (lambda _: Session.objects.all().delete(), 401),
            (lambda _: User.objects.filter(pk=self.viewer.pk).update(is_active=False), 401),
            (lambda _: User.objects.filter(pk=self.viewer.pk).update(password="another"), 401),
            (lambda _: Membership.objects.filter(user=self.viewer).delete(), 404),
            (lambda _: Shot.objects.update(deleted=timezone.now()), 404),
            (lambda _: Source.objects.all().delete(), 422),
        ):
            api = self.as_user(self.viewer)
            # Of their first view it is noted that their source is used.
            self.assertEqual([look(api) for _ in range(2)], [200, 200])
            with self.asks(0):
                self.assertEqual(look(api), 200)
            change(api)
            with self.subTest(status=status):
                self.assertEqual(look(api), status)
            self.viewer.is_active = True
            self.viewer.set_password(PASSWORD)
            self.viewer.save()
            Membership.objects.get_or_create(project=self.project, user=self.viewer, role="viewer")
            Shot.objects.update(deleted=None)


class Connection(SimpleTestCase):
    def setUp(self) -> None:
        self.clock = self.enterContext(mock.patch.object(base.time, "monotonic", return_value=100.0))
        self.asked = self.enterContext(mock.patch.object(DatabaseWrapper, "is_usable", return_value=True))
        self.connection = base.DatabaseWrapper({**connection.settings_dict})

    def test_one_that_answered_just_now_is_not_asked_again(self) -> None:
        for after, count in ((0, 1), (0.5, 1), (0.4, 1), (0.2, 2), (5, 3)):
            self.clock.return_value += after
            self.assertTrue(self.connection.is_usable())
            self.assertEqual(self.asked.call_count, count)

    def test_after_an_error_it_is_asked_however_short_ago_it_answered(self) -> None:
        self.assertTrue(self.connection.is_usable())
        self.connection.errors_occurred = True
        self.asked.return_value = False
        self.assertFalse(self.connection.is_usable())
        self.assertEqual(self.asked.call_count, 2)

    def test_one_that_did_not_answer_or_was_closed_is_asked(self) -> None:
        self.asked.return_value = False
        for count in (1, 2):
            self.assertFalse(self.connection.is_usable())
            self.assertEqual(self.asked.call_count, count)
        self.asked.return_value = True
        self.assertTrue(self.connection.is_usable())
        self.connection.close()
        self.assertTrue(self.connection.is_usable())
        self.assertEqual(self.asked.call_count, 4)


class LostConnection(TestCase):
    def test_one_that_is_lost_just_after_it_answered_is_made_anew(self) -> None:
        own = connections.create_connection("default")
        self.addCleanup(own.close)
        with own.cursor() as cursor:
            cursor.execute("SELECT CONNECTION_ID()")
            (number,) = cursor.fetchone()
        self.assertTrue(own.is_usable())
        with connection.cursor() as cursor:
            cursor.execute(f"KILL {number}")
        with self.assertRaises(OperationalError), own.cursor() as cursor:
            cursor.execute("SELECT 1")
        # As at the end of a request, and at the beginning of the next.
        own.close_if_unusable_or_obsolete()
        with own.cursor() as cursor:
            cursor.execute("SELECT CONNECTION_ID()")
            self.assertNotEqual(cursor.fetchone(), (number,))
