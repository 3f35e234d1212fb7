"""What keeps database and server running: with programs that only pretend to be them, in a folder with blanks."""

from __future__ import annotations

import fcntl
import itertools
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import textwrap
import time
import unittest
from pathlib import Path
from typing import Any

from patience import wait_until

ROOT = Path(__file__).resolve().parent.parent.parent

DATABASE = """
    import signal, sys, time
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    print("ready for connections", flush=True)
    while True:
        time.sleep(0.05)
"""
SERVER = """
    import os, signal, sys, time, http.server
    from pathlib import Path
    var = Path(os.environ["NEXAL_VAR"])
    if (var / "broken").exists():
        print("it cannot start: the reason", flush=True)
        sys.exit(3)
    if (var / "deaf").exists():
        signal.signal(signal.SIGTERM, signal.SIG_IGN)

    class Answer(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200)
            if (var / "breaking").exists():
                self.send_header("Content-Length", "100")
            self.end_headers()
            self.wfile.write(os.environ.get("NEXAL_WORD", "").encode())

    http.server.HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Answer).serve_forever()
"""


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as probe:
        return int(probe.getsockname()[1])


class House(unittest.TestCase):
    def setUp(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="a house ")))
        self.var, programs, modules = folder / "var", folder / "bin", folder / "modules"
        for made in (self.var, programs, modules / "config"):
            made.mkdir(parents=True)
        self.program(programs / "mariadbd", DATABASE)
        self.program(programs / "mariadb-admin", "")
        (modules / "config" / "__init__.py").touch()
        (modules / "config" / "front.py").write_text(textwrap.dedent(SERVER))
        self.port = free_port()
        self.environment = os.environ | {
            "NEXAL_VAR": str(self.var),
            "NEXAL_DB_SOCKET": str(self.var / "server.sock"),
            "NEXAL_DB_OWNER": "nobody",
            "PATH": f"{programs}:{os.environ['PATH']}",
            "PYTHONPATH": str(modules),
        }
        self.addCleanup(self.house, "stop")

    def program(self, path: Path, text: str) -> None:
        path.write_text(f"#!{sys.executable}\n" + textwrap.dedent(text))
        path.chmod(0o755)

    def house(self, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, str(ROOT / "tools" / "house.py"), *words]
        return subprocess.run(command, env=self.environment | more, capture_output=True, text=True, timeout=120)

    def up(self, **more: str) -> None:
        found = self.house("server", str(self.port), **more)
        self.assertEqual((found.stdout.strip(), found.stderr), (str(self.port), ""))

    def state(self) -> dict[str, Any]:
        try:
            return json.loads((self.var / "house" / "state.json").read_text())
        except FileNotFoundError:
            return {}

    def pid(self, part: str) -> int:
        return self.state()[part]["pid"]

    def alive(self, pid: int) -> bool:
        try:
            return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
        except OSError:
            return False

    def test_it_starts_says_where_and_stops(self) -> None:
        self.assertEqual(self.house("status").stdout, "nothing runs\n")
        self.up()
        pids = [self.pid("database"), self.pid("server"), self.state()["pid"]]
        told = self.house("status")
        self.assertEqual(told.returncode, 0)
        self.assertRegex(told.stdout, rf"Server\s+runs, process {pids[1]}, 127.0.0.1:{self.port}, since .* answers in")
        # Once more is no fault, and changes nothing.
        self.up()
        self.assertEqual(self.pid("server"), pids[1])
        self.assertEqual(self.house("stop").returncode, 0)
        self.assertEqual([self.alive(pid) for pid in pids], [False] * 3)
        self.assertEqual(self.house("status").stdout, "nothing runs\n")

    def test_what_dies_is_started_again_and_the_reason_is_kept(self) -> None:
        self.up()
        for part in ("server", "database"):
            before = self.pid(part)
            os.kill(before, signal.SIGKILL)
            wait_until(lambda part=part, before=before: self.state()[part]["pid"] not in (None, before))
            wait_until(lambda part=part: self.state()[part]["ready"])
            self.assertIn("killed by signal 9", self.house("status").stdout)
        self.assertIn("ready for connections", self.house("status").stdout)

    def test_what_cannot_start_is_told_with_its_reason_and_tried_with_growing_pauses(self) -> None:
        (self.var / "broken").touch()
        found = self.house("server", str(self.port))
        self.assertEqual(found.returncode, 1)
        self.assertIn("it cannot start: the reason", found.stderr)
        troubles = self.state()["server"]["troubles"]
        pauses = [b["at"] - a["at"] for a, b in itertools.pairwise(troubles)]
        # From a second on, doubled up to four, at the least: a machine that is slow takes longer.
        self.assertGreater(len(pauses), 1)
        for number, pause in enumerate(pauses):
            self.assertGreaterEqual(pause, 0.99 * min(4, 2**number))
        self.assertEqual(self.house("status").returncode, 1)
        (self.var / "broken").unlink()
        wait_until(lambda: self.state()["server"]["ready"])

    def test_a_server_that_does_not_listen_is_ended_all_the_same(self) -> None:
        (self.var / "deaf").touch()
        self.up()
        pid = self.pid("server")
        self.assertEqual(self.house("stop").returncode, 0)
        self.assertFalse(self.alive(pid))

    def test_an_unrelated_process_of_the_same_number_is_left_alone(self) -> None:
        other = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
        self.addCleanup(other.wait)
        self.addCleanup(other.kill)
        (self.var / "house").mkdir()
        part = {"pid": other.pid, "port": self.port, "ready": True, "since": 0}
        state = {"pid": other.pid, "database": part, "server": part}
        (self.var / "house" / "state.json").write_text(json.dumps(state))
        self.assertEqual(self.house("stop").returncode, 0)
        self.assertEqual(self.house("status").stdout, "nothing runs\n")
        self.up()
        self.house("stop")
        self.assertIsNone(other.poll())

    def test_killed_it_takes_the_others_along_and_starts_anew(self) -> None:
        self.up()
        pids = [self.pid("database"), self.pid("server")]
        os.kill(self.state()["pid"], signal.SIGKILL)
        wait_until(lambda: not any(self.alive(pid) for pid in pids))
        self.up()
        self.assertNotIn(self.pid("server"), pids)

    def test_the_database_stays_for_as_long_as_somebody_uses_it(self) -> None:
        (self.var / "house").mkdir()
        users = os.open(self.var / "house" / "users", os.O_RDWR | os.O_CREAT)
        fcntl.flock(users, fcntl.LOCK_SH)
        port = self.house("database").stdout.strip()
        self.up()
        self.assertEqual(self.state()["database"]["port"], int(port))
        pid = self.pid("database")
        # The server is stopped; the tests go on.
        self.assertIn("the database goes on", self.house("stop").stderr)
        self.assertEqual((self.alive(pid), self.state()["server"]["pid"]), (True, None))
        self.up()
        # A test run ends; the server goes on with the database.
        os.close(users)
        time.sleep(3)
        self.assertTrue(self.alive(pid))
        self.house("stop")
        # The other way round: the server ends, the tests go on.
        users = os.open(self.var / "house" / "users", os.O_RDWR | os.O_CREAT)
        fcntl.flock(users, fcntl.LOCK_SH)
        self.house("database")
        pid = self.pid("database")
        time.sleep(3)
        self.assertTrue(self.alive(pid))
        os.close(users)
        wait_until(lambda: not self.alive(pid))

    def test_answers_that_break_off_and_faults_of_its_own_do_not_end_it(self) -> None:
        (self.var / "breaking").touch()
        (self.var / "server.log").mkdir()
        starting = subprocess.Popen(
            [sys.executable, str(ROOT / "tools" / "house.py"), "server", str(self.port)],
            env=self.environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(starting.communicate)
        self.addCleanup(starting.kill)
        log = self.var / "house.log"
        wait_until(lambda: log.exists() and "IsADirectoryError" in log.read_text())
        (self.var / "server.log").rmdir()
        wait_until(lambda: self.state().get("server", {}).get("pid"))
        time.sleep(1)
        self.assertFalse(self.state()["server"]["ready"])
        (self.var / "breaking").unlink()
        wait_until(lambda: self.state()["server"]["ready"])

    def test_a_server_that_runs_an_older_program_is_started_anew(self) -> None:
        self.up(NEXAL_PROGRAM="one")
        first, database = self.pid("server"), self.pid("database")
        self.up(NEXAL_PROGRAM="one")
        self.assertEqual(self.pid("server"), first)
        with (self.var / "house" / "users").open("a") as users:
            # As `run` does, so that the database stays.
            fcntl.flock(users, fcntl.LOCK_SH)
            found = self.house("server", str(self.port), NEXAL_PROGRAM="two")
            self.assertEqual(found.stdout.strip(), str(self.port))
            self.assertIn("the program has changed", found.stderr)
            wait_until(lambda: self.pid("server") not in (None, first), "another server")
            self.assertFalse(self.alive(first))
            self.assertEqual(self.pid("database"), database)
        self.up(NEXAL_PROGRAM="two")

    def test_a_port_that_is_taken_is_told(self) -> None:
        with socket.create_server(("127.0.0.1", self.port)):
            found = self.house("server", str(self.port))
        self.assertEqual((found.returncode, f"port {self.port} is taken" in found.stderr), (1, True))

    def test_two_at_once_are_one(self) -> None:
        command = [sys.executable, str(ROOT / "tools" / "house.py"), "server", str(self.port)]
        both = [subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, text=True) for _ in range(3)]
        self.assertEqual({each.communicate(timeout=60)[0].strip() for each in both}, {str(self.port)})
        self.assertEqual(self.state()["server"]["troubles"], [])

    def test_the_server_has_the_settings_of_who_asked_for_it_and_logs_are_kept(self) -> None:
        self.up(NEXAL_WORD="moth")
        with socket.create_connection(("127.0.0.1", self.port)) as connection:
            connection.sendall(b"GET /api/session HTTP/1.0\r\n\r\n")
            answer = b"".join(iter(lambda: connection.recv(4096), b""))
        self.assertTrue(answer.endswith(b"moth"))
        self.house("stop")
        (self.var / "server.log").write_bytes(b"x" * (6 << 20))
        self.up()
        self.assertEqual((self.var / "server.log.1").stat().st_size, 6 << 20)
        self.assertLess((self.var / "server.log").stat().st_size, 10_000)


if __name__ == "__main__":
    unittest.main()
