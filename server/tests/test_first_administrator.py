"""A house begins with somebody who administers it, and only then."""

from __future__ import annotations

import io
from unittest import mock

from django.core.management import CommandError, call_command
from django.test import TestCase

from accounts.models import User

SET = {"NEXAL_ADMIN": "orla", "NEXAL_ADMIN_PASSWORD": "lamps at midnight"}


class FirstAdministrator(TestCase):
    def call(self, environment: dict[str, str] | None = None) -> str:
        out = io.StringIO()
        names = dict.fromkeys(SET, "") | (environment or {})
        with mock.patch.dict("os.environ", names):
            call_command("first_administrator", stdout=out)
        return out.getvalue()

    def test_the_environment_names_one(self) -> None:
        told = self.call(SET)
        user = User.objects.get()
        self.assertEqual(
            (user.username, user.is_staff, user.check_password(SET["NEXAL_ADMIN_PASSWORD"])), ("orla", True, True)
        )
        self.assertNotIn(SET["NEXAL_ADMIN_PASSWORD"], told)
        # Once there is one, nobody else becomes it.
        self.assertEqual(self.call(SET | {"NEXAL_ADMIN": "bram"}), "")
        self.assertEqual(User.objects.count(), 1)

    def test_a_terminal_is_asked_until_the_answer_will_do(self) -> None:
        with (
            mock.patch("sys.stdin.isatty", return_value=True, create=True),
            mock.patch("builtins.input", side_effect=["with blanks", "orla", "orla", "orla"]),
            mock.patch(
                "getpass.getpass",
                side_effect=[
                    "x y z 1 2 3",
                    "x y z 1 2 3",
                    "one",
                    "other",
                    "short",
                    "short",
                    "lamps at midnight",
                    "lamps at midnight",
                ],
            ),
        ):
            told = self.call()
        self.assertEqual(User.objects.get().username, "orla")
        for words in ("cannot be signed in by", "the passwords differ", "try again", "orla administers this house"):
            self.assertIn(words, told)

    def test_without_a_terminal_it_says_what_to_set(self) -> None:
        with mock.patch("sys.stdin.isatty", return_value=False, create=True):
            with self.assertRaisesRegex(CommandError, "set NEXAL_ADMIN and NEXAL_ADMIN_PASSWORD"):
                self.call()
            with self.assertRaisesRegex(CommandError, "."):
                self.call(SET | {"NEXAL_ADMIN_PASSWORD": "short"})
        self.assertFalse(User.objects.exists())
