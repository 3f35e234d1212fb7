"""Damaged files of every format through the decode worker; the long form is `./run attack files`."""

from __future__ import annotations

import os
import random
import signal
import sys
import time
import unittest
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent.parent))

from tools.attack_files import MOST_BYTES, MOST_SECONDS, attacked

SEED = int(os.environ.get("NEXAL_SEED", time.time_ns() % 1_000_000))


class Attacked(unittest.TestCase):
    def test_none_hangs_or_takes_the_machine_along(self) -> None:
        for name, seconds, size, status in attacked(120, random.Random(SEED)):
            with self.subTest(name, seed=SEED):
                self.assertLess(seconds, MOST_SECONDS)
                self.assertLess(size, MOST_BYTES)
                self.assertNotEqual(os.waitstatus_to_exitcode(status), -signal.SIGALRM)


if __name__ == "__main__":
    unittest.main()
