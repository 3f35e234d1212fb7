"""The server does not start without a secret of its own."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile

from django.conf import settings
from django.test import SimpleTestCase, override_settings

from config.secret import LEAST_LETTERS, check_secret


class Secret(SimpleTestCase):
    def test_none_and_one_that_can_be_guessed_are_refused(self) -> None:
        for secret in ("", "not-for-serving", "x" * (LEAST_LETTERS - 1)):
            with (
                self.subTest(secret),
                override_settings(SECRET_KEY=secret),
                self.assertRaisesRegex(SystemExit, "set NEXAL_SECRET_KEY to 32 or more"),
            ):
                check_secret()
        with override_settings(SECRET_KEY="x" * LEAST_LETTERS):
            check_secret()

    def test_the_application_says_so_and_ends(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            environment = {key: value for key, value in os.environ.items() if key != "NEXAL_SECRET_KEY"}
            environment |= {"NEXAL_VAR": folder, "PYTHONPATH": f"{settings.ROOT}/core:{settings.ROOT}/server"}
            done = subprocess.run(
                [sys.executable, "-c", "import config.wsgi"],
                env=environment,
                capture_output=True,
                text=True,
                timeout=120,
            )
        self.assertEqual(done.returncode, 1)
        self.assertTrue(done.stderr.startswith("nexal: there is no secret key; set NEXAL_SECRET_KEY"), done.stderr)
