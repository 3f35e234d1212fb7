"""The one script sets up what is missing, and nothing twice."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from django.conf import settings
from django.test import SimpleTestCase

LOCKS = ("requirements-core.lock", "requirements.lock", "requirements-dev.lock")
PYTHON = """#!/bin/sh
echo "$@" >> "$(dirname "$0")/calls"
"""


class SetUp(SimpleTestCase):
    def setUp(self) -> None:
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in ("run", *LOCKS):
            shutil.copy(Path(settings.ROOT) / name, self.root / name)
        bin_folder = self.root / ".venv" / "bin"
        bin_folder.mkdir(parents=True)
        (bin_folder / "python").write_text(PYTHON)
        (bin_folder / "python").chmod(0o755)

    def installed(self, lock: str) -> None:
        digest = hashlib.sha256((self.root / lock).read_bytes()).hexdigest()[:32]
        (self.root / ".venv" / f".{lock}.stamp").write_text(digest + "\n")

    def calls_of_nexal(self) -> list[str]:
        """What Python is called with by `./run nexal`."""
        calls = self.root / ".venv" / "bin" / "calls"
        calls.unlink(missing_ok=True)
        environment = {"PATH": os.environ["PATH"], "NEXAL_VAR": str(self.root / "var")}
        subprocess.run([self.root / "run", "nexal", "--version"], env=environment, check=True, capture_output=True)
        return calls.read_text().splitlines()

    def test_the_command_line_installs_nothing_in_a_house_that_is_set_up(self) -> None:
        for lock in LOCKS:
            with self.subTest(lock):
                self.installed(lock)
                self.assertEqual(self.calls_of_nexal(), ["-m nexal --version"])
                (self.root / ".venv" / f".{lock}.stamp").unlink()

    def test_what_is_missing_or_was_changed_is_installed_once(self) -> None:
        install = "-m pip install -q --require-hashes -r requirements-core.lock"
        self.assertEqual(self.calls_of_nexal(), [install, "-m nexal --version"])
        self.assertEqual(self.calls_of_nexal(), ["-m nexal --version"])
        for lock in LOCKS:
            self.installed(lock)
        wanted = self.root / "requirements-core.lock"
        wanted.write_text(wanted.read_text() + "another==1.0 \\\n")
        self.assertEqual(self.calls_of_nexal(), [install, "-m nexal --version"])
