"""Damaged files of every format through the decode worker; the long form is `./run attack files`."""

from __future__ import annotations

import os
import subprocess
import sys
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
SEED = os.environ.get("NEXAL_SEED", str(time.time_ns() % 1_000_000))


class Attacked(unittest.TestCase):
    def test_none_hangs_or_takes_the_machine_along(self) -> None:
        # In a process of its own: it forks, which a process of many threads must not.
        command = [sys.executable, str(ROOT / "tools" / "attack_files.py"), "120", SEED]
        found = subprocess.run(command, capture_output=True, text=True, timeout=300)
        self.assertEqual(found.returncode, 0, found.stdout + found.stderr)
        self.assertIn("120 files", found.stdout)


if __name__ == "__main__":
    unittest.main()
