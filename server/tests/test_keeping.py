"""The archive of all that people made: whole, checked, brought back; and what an older program has left is kept."""

from __future__ import annotations

import io
import json
import tarfile
from pathlib import Path
from typing import Any
from unittest import mock

from django.conf import settings
from django.core.management import CommandError, call_command
from django.db import connection
from django.test import TransactionTestCase, override_settings
from server_support import Served, exr_bytes, planes_of, plate

from accounts.models import User
from keeping import archive, database
from keeping.archive import back_up, check, restore
from keeping.database import KeepingError
from nexal.recipe import parse_recipe
from notes.models import Note
from projects.models import Membership, Project, Role, Shot
from recipes.models import Revision
from sources.models import Source

BEFORE = Path(__file__).parent / "data" / "demo_before_people.sql.gz"
"""The demo's database as the program made it before accounts, notes, chains and the wall came."""


def nothing(_: str) -> None:
    """What is told meanwhile does not matter."""


class Keeping(Served, TransactionTestCase):
    own_store = True

    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        Note.objects.create(shot=self.shot, author=self.owner, text="蛾 the wing's edge")
        self.media = Path(settings.MEDIA_ROOT)
        self.file = self.media.parent / "all.tar"

    def tearDown(self) -> None:
        # Whatever a test has left of the tables, the next one finds them as they should be.
        if "projects_shot" not in connection.introspection.table_names():
            database.empty()
            call_command("migrate", interactive=False, verbosity=0)
        super().tearDown()

    def seen(self) -> Any:
        """The pixels of the shot's cut, as they are answered."""
        address = f"/api/shots/{self.shot.pk}/view"
        answer = self.as_user(User.objects.get(username="owner")).post(address, {"address": "cut"})
        self.assertEqual(answer.status_code, 200, answer.content)
        return {name: plane.tobytes() for name, plane in planes_of(answer).items()}

    def test_all_comes_back_and_what_was_here_is_laid_aside(self) -> None:
        before = self.seen()
        manifest = back_up(self.file, nothing)
        self.assertEqual((manifest.projects, manifest.shots, manifest.people), (1, 1, 3))
        self.assertEqual(len(manifest.members), 2)
        Note.objects.all().delete()
        Shot.objects.update(name="made since")
        original = self.media / Source.objects.get().original.name
        original.write_bytes(b"something else")
        with self.assertRaisesRegex(KeepingError, "there are 1 projects here"):
            restore(self.file, nothing)
        self.assertEqual(Shot.objects.get().name, "made since")
        _, aside = restore(self.file, nothing, replace=True)
        assert aside
        self.assertEqual(Shot.objects.get().name, "040 moth")
        self.assertEqual(Note.objects.get().text, "蛾 the wing's edge")
        self.assertEqual(original.read_bytes(), exr_bytes(plate()))
        self.assertEqual(self.seen(), before)
        self.assertEqual((aside / original.relative_to(self.media)).read_bytes(), b"something else")
        self.assertTrue((aside / archive.DATABASE).is_file())
        # And back again, of what was laid aside.
        database.empty()
        database.load(aside / archive.DATABASE)
        self.assertEqual(Shot.objects.get().name, "made since")

    def test_people_work_on_while_it_is_written(self) -> None:
        original = Source.objects.get().original.name
        real = database.dump

        def busy(to: Path) -> None:
            """A file is deleted and another comes in just after the database was read."""
            real(to)
            Source.objects.all().delete()
            (self.media / original).unlink()
            self.upload("frond.exr")

        with mock.patch.object(database, "dump", busy):
            manifest = back_up(self.file, nothing)
        self.assertIn(original, manifest.members)
        self.assertEqual(manifest.missing, [])
        restore(self.file, nothing, replace=True)
        self.assertEqual([source.files for source in Source.objects.all()], ["moth.exr"])
        self.assertEqual((self.media / original).read_bytes(), exr_bytes(plate()))
        self.assertEqual(list(self.media.parent.glob("backup-*")), [])

    def test_what_failed_has_changed_nothing_wherever_it_failed(self) -> None:
        back_up(self.file, nothing)
        (self.media / "another").mkdir()
        before, files = self.seen(), self.files()
        full = OSError(28, "No space left on device")
        real, moves = Path.rename, 0

        def second(path: Path, to: Path) -> Path:
            """The second move fails, of whatever is moved then; later ones are those that take back."""
            nonlocal moves
            moves += 1
            if moves == 2:
                raise full
            return real(path, to)

        for place, failing, told in (
            (database, {"dump": mock.Mock(side_effect=KeepingError("no dump"))}, KeepingError),
            (Path, {"rename": second}, KeepingError),
            (archive, {"call_command": mock.Mock(side_effect=full)}, KeepingError),
            (archive, {"call_command": mock.Mock(side_effect=ValueError("a migration"))}, KeepingError),
            (archive, {"call_command": mock.Mock(side_effect=KeyboardInterrupt)}, KeyboardInterrupt),
        ):
            with self.subTest(str(failing)):
                with mock.patch.multiple(place, **failing), self.assertRaises(told):
                    restore(self.file, nothing, replace=True)
                self.assertEqual(self.files(), files)
                self.assertEqual(self.seen(), before)
                self.assertEqual(Note.objects.count(), 1)
                self.assertEqual([*self.media.parent.glob("*restore-*")], [])

    def test_a_database_in_use_is_left_alone(self) -> None:
        back_up(self.file, nothing)
        before, files = self.seen(), self.files()
        other = connection.copy()
        self.addCleanup(other.close)
        with other.cursor() as cursor:
            cursor.execute("START TRANSACTION")
            cursor.execute("SELECT COUNT(*) FROM projects_shot")
            with (
                mock.patch.object(database, "PATIENCE_SECONDS", 1),
                self.assertRaisesRegex(KeepingError, "the database is in use"),
            ):
                restore(self.file, nothing, replace=True)
            self.assertEqual((self.seen(), self.files()), (before, files))
            cursor.execute("ROLLBACK")
        restore(self.file, nothing, replace=True)
        self.assertEqual(self.seen(), before)

    def files(self) -> dict[str, bytes | None]:
        """Everything under the media folder."""
        found = sorted(self.media.rglob("*"))
        return {str(path.relative_to(self.media)): path.read_bytes() if path.is_file() else None for path in found}

    def test_an_archive_that_is_not_whole_is_not_brought_back(self) -> None:
        back_up(self.file, nothing)
        whole = self.file.read_bytes()
        middle = len(whole) // 2
        # Within what is kept: between its files an archive has room that says nothing.
        with tarfile.open(self.file) as archive:
            largest = max(archive.getmembers(), key=lambda member: member.size)
        bit = largest.offset_data + largest.size // 2
        other = self.file.with_name("other.tar")
        for name, content in {
            "cut": whole[:middle],
            "without its end": whole[:-20_000],
            "one bit": whole[:bit] + bytes([whole[bit] ^ 1]) + whole[bit + 1 :],
            "nothing": b"",
            "another file": exr_bytes(plate()),
            "newer": self.changed(nexal_backup=2),
            "other words": self.changed(members=3),
            "elsewhere": self.with_member("../../elsewhere"),
            "absolute": self.with_member("/tmp/elsewhere"),
            "a link": self.with_member("originals/link", tarfile.SYMTYPE),
        }.items():
            with self.subTest(name):
                other.write_bytes(content)
                with self.assertRaises(KeepingError) as caught:
                    restore(other, nothing, replace=True)
                self.assertTrue(caught.exception.remedy)
        self.assertEqual(Shot.objects.get().name, "040 moth")
        check(self.file)

    def changed(self, **more: Any) -> bytes:
        """The archive with another manifest."""
        out = io.BytesIO()
        with tarfile.open(self.file) as old, tarfile.open(fileobj=out, mode="w") as new:
            for entry in old:
                file = old.extractfile(entry)
                assert file
                data = file.read()
                if entry.name == archive.MANIFEST:
                    data = json.dumps(json.loads(data) | more).encode()
                    entry.size = len(data)
                new.addfile(entry, io.BytesIO(data))
        return out.getvalue()

    def with_member(self, name: str, kind: bytes = tarfile.REGTYPE) -> bytes:
        out = io.BytesIO(self.file.read_bytes())
        with tarfile.open(fileobj=out, mode="a") as more:
            entry = tarfile.TarInfo(name)
            entry.type, entry.linkname = kind, "/etc/hostname" if kind == tarfile.SYMTYPE else ""
            more.addfile(entry)
        return out.getvalue()

    def test_the_commands_say_what_there_is_and_what_is_wrong(self) -> None:
        out = io.StringIO()
        call_command("backup", str(self.file), stdout=out, stderr=io.StringIO())
        self.assertIn("1 projects, 1 shots, 3 people, 1 originals", out.getvalue())
        self.assertIn("not in it: decoded planes", out.getvalue())
        for wrong in (self.file.parent / "no" / "such.tar", self.media):
            with self.subTest(str(wrong)), self.assertRaises(CommandError):
                call_command("backup", str(wrong), stderr=io.StringIO())
        whole = self.file.read_bytes()
        with (
            mock.patch.object(archive, "check", side_effect=KeepingError("is no whole archive")),
            self.assertRaises(CommandError),
        ):
            call_command("backup", str(self.file), stderr=io.StringIO())
        self.assertEqual(self.file.read_bytes(), whole)
        self.assertEqual(list(self.file.parent.glob(".all*")), [])


class Upgrade(TransactionTestCase):
    """The demo of an older program, brought up to date."""

    def test_every_project_shot_and_revision_is_kept(self) -> None:
        self.addCleanup(call_command, "migrate", interactive=False, verbosity=0)
        self.addCleanup(database.empty)
        database.empty()
        database.load(BEFORE)
        with connection.cursor() as cursor:
            cursor.execute("SELECT id, name, head_id, marks FROM projects_shot ORDER BY id")
            shots = cursor.fetchall()
            cursor.execute("SELECT id, recipe, sentence FROM recipes_revision ORDER BY id")
            revisions = cursor.fetchall()
            cursor.execute("SELECT id, original, fingerprint FROM sources_source ORDER BY id")
            sources = cursor.fetchall()
        self.assertGreater(len(shots), 10)
        call_command("migrate", interactive=False, verbosity=0)
        self.assertEqual([project.name for project in Project.objects.all()], ["Night Conservatory"])
        kept = [(shot.pk, shot.name, shot.head_id) for shot in Shot.objects.order_by("pk")]
        self.assertEqual(kept, [row[:3] for row in shots])
        self.assertEqual([json.loads(row[3]) for row in shots], [shot.marks for shot in Shot.objects.order_by("pk")])
        self.assertTrue(all(shot.state == "todo" and not shot.archived for shot in Shot.objects.all()))
        resampling: set[str] = set()
        for (pk, recipe, sentence), revision in zip(revisions, Revision.objects.order_by("pk"), strict=True):
            before = json.loads(recipe)
            # Pixels stay: what was resampled before goes on to overshoot, which is no longer the default.
            for step in before.get("steps", []):
                if step["op"] in ("place", "resize", "fit_to", "pack"):
                    step["set"] = step.get("set", {}) | {"overshoot": True}
                    resampling.add(step["op"])
            self.assertEqual((pk, before, sentence), (revision.pk, revision.recipe, revision.sentence))
            parse_recipe(revision.recipe)
        self.assertIn("place", resampling)
        self.assertEqual(
            list(Source.objects.order_by("pk").values_list("pk", "original", "fingerprint")), list(sources)
        )
        member = Membership.objects.get()
        self.assertEqual((member.user.username, member.role), ("compositor", Role.OWNER))
        # Who signed in before signs in now, and sees the wall.
        with override_settings(PASSWORD_HASHERS=["django.contrib.auth.hashers.PBKDF2PasswordHasher"]):
            self.assertTrue(self.client.login(username="compositor", password="night-conservatory"))
        wall = self.client.get(f"/api/projects/{member.project_id}/shots")
        self.assertEqual([row["name"] for row in wall.json()], sorted(row[1] for row in shots))
