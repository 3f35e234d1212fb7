"""What is held to a share of one core, with what it starts."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from patience import wait_until

PROGRAM = Path(__file__).resolve().parent.parent.parent / "tools" / "half_core.py"
BUSY = """
import subprocess, sys, time
end, used = time.monotonic() + 4, 0
child = subprocess.Popen([sys.executable, "-c", "while True: pass"])
while time.monotonic() < end:
    pass
child.kill()
child.wait()
import resource
print(sum(sum(resource.getrusage(who)[:2]) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)))
"""


class HalfCore(unittest.TestCase):
    def started(self, *words: str) -> subprocess.Popen[str]:
        command = [sys.executable, str(PROGRAM), *words]
        running = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        self.addCleanup(running.stderr.close)
        self.addCleanup(running.stdout.close)
        return running

    def test_it_and_what_it_starts_use_their_share(self) -> None:
        began = time.monotonic()
        running = self.started("--share", "0.5", sys.executable, "-c", BUSY)
        used = float(running.stdout.read())
        lived = time.monotonic() - began
        self.assertEqual(running.wait(), 0)
        # Both would take all that two cores have.
        self.assertLess(used / lived, 0.75)

    def test_its_end_is_that_of_the_command(self) -> None:
        self.assertEqual(self.started(sys.executable, "-c", "raise SystemExit(7)").wait(30), 7)

    def test_it_ends_when_it_is_not_needed_any_more(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            needed, told = Path(folder) / "needed", Path(folder) / "told"
            needed.touch()
            forever = f"import pathlib\npathlib.Path({str(told)!r}).touch()\nwhile True: pass"
            running = self.started("--while", str(needed), sys.executable, "-c", forever)
            wait_until(told.exists, "it has begun")
            self.assertIsNone(running.poll())
            needed.unlink()
            wait_until(lambda: running.poll() is not None, "it has ended")
