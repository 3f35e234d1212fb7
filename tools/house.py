"""Keeps the database and the server running: one process that starts them, watches them and starts them again.

    python tools/house.py database        have the database run; prints its port
    python tools/house.py server PORT     have the server run, too, anew if the program has changed; prints its port
    python tools/house.py stop            end everything
    python tools/house.py status          what runs, where, since when, and what is wrong

Whether it runs is told by a lock that the kernel lets go of when it dies, never by a number in a file that may mean
another process by now. It ends by itself when nobody needs the database: no server is wanted, and nobody holds the
lock `users`. Everything lies under NEXAL_VAR; `run` sets the environment.
"""

from __future__ import annotations

import ctypes
import fcntl
import hashlib
import http.client
import json
import os
import signal
import socket
import subprocess
import sys
import time
import traceback
import urllib.request
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
VAR = Path(os.environ.get("NEXAL_VAR", ROOT / "var"))
HOME = VAR / "house"
LOCK, USERS, STATE, WANTS = HOME / "lock", HOME / "users", HOME / "state.json", HOME / "wants.json"
LOOK_SECONDS = 0.1
START_SECONDS = 90
STOP_SECONDS = 8.0
"""What the server and the database have to end by themselves."""
LONGEST_PAUSE = 4.0
SOUND_SECONDS = 2.0
"""Who answered for as long as this is started again at once."""
UNUSED_SECONDS = 2.0
PORTS = range(33306, 33326)
LOG_BYTES = 5 << 20
LOGS_KEPT = 3
PR_SET_PDEATHSIG = 1


def write(path: Path, data: Any) -> None:
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    part.write_text(json.dumps(data, indent=1), encoding="utf-8")
    part.replace(path)


def read(path: Path) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found


def hold(path: Path, kind: int) -> int | None:
    """An open file that holds a lock, or None where somebody else does."""
    HOME.mkdir(parents=True, exist_ok=True)
    file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(file, kind | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(file)
        return None
    return file


def held(path: Path) -> bool:
    file = hold(path, fcntl.LOCK_EX)
    if file is None:
        return True
    os.close(file)
    return False


def is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def rotate(path: Path, limit: int = LOG_BYTES) -> None:
    """Keep a log over starts, its older parts under numbers. Who writes has it open to append: it is cut, not moved."""
    if not path.exists() or path.stat().st_size <= limit:
        return
    for number in range(LOGS_KEPT - 1, 0, -1):
        older = path.with_name(f"{path.name}.{number}")
        if older.exists():
            older.replace(path.with_name(f"{path.name}.{number + 1}"))
    path.with_name(f"{path.name}.1").write_bytes(path.read_bytes())
    os.truncate(path, 0)


def _die_with_parent() -> None:
    os.setsid()
    # At once: what goes on alone would hold the port and the folder that the next one needs. Both bear it.
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


@dataclass
class Kept:
    """A program that is kept running."""

    name: str
    command: Callable[[], list[str]]
    answers: Callable[[], bool]
    environment: Callable[[], dict[str, str]]
    log: Path
    process: subprocess.Popen[bytes] | None = None
    since: float = 0.0
    ready: bool = False
    ready_since: float = 0.0
    fails: int = 0
    not_before: float = 0.0
    troubles: list[dict[str, Any]] = field(default_factory=list)

    def start(self) -> None:
        rotate(self.log)
        with self.log.open("ab") as log:
            log.write(f"--- {time.strftime('%F %T')} {self.name} starts\n".encode())
            log.flush()
            self.process = subprocess.Popen(
                self.command(),
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
                env=os.environ | self.environment(),
                cwd=ROOT,
                preexec_fn=_die_with_parent,
            )
        self.since, self.ready = time.time(), False

    def look(self) -> None:
        """Notice that it answers, or that it has ended."""
        if self.process is None:
            return
        code = self.process.poll()
        if code is None:
            if not self.ready and self.answers():
                self.ready, self.ready_since = True, time.time()
            return
        lived = time.time() - self.since
        self.fails = 0 if self.ready and time.time() - self.ready_since > SOUND_SECONDS else self.fails + 1
        self.not_before = time.time() + (min(LONGEST_PAUSE, 0.5 * 2**self.fails) if self.fails else 0.2)
        reason = f"killed by signal {-code}" if code < 0 else f"ended with code {code}"
        self.troubles = [
            *self.troubles[-9:],
            {"at": time.time(), "reason": reason, "lived": round(lived, 1), "last": self._last_lines()},
        ]
        self.process, self.ready = None, False

    def _last_lines(self) -> list[str]:
        with self.log.open("rb") as log:
            log.seek(max(0, self.log.stat().st_size - 4000))
            lines = log.read().decode("utf-8", "replace").splitlines()
        begun = max((number for number, line in enumerate(lines) if line.startswith("---")), default=-1)
        return [line for line in lines[begun + 1 :] if line][-3:]

    def stop(self, patience: float) -> None:
        process = self.process
        if process is None or process.poll() is not None:
            self.process = None
            return
        process.terminate()
        try:
            process.wait(patience)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        self.process, self.ready = None, False

    def told(self) -> dict[str, Any]:
        pid = self.process.pid if self.process else None
        return {"pid": pid, "since": self.since, "ready": self.ready, "fails": self.fails, "troubles": self.troubles}


class House:
    """The process that keeps the others."""

    def __init__(self) -> None:
        self.port = int((VAR / "mariadb.port").read_text() or 0) if (VAR / "mariadb.port").exists() else PORTS[0]
        self.socket = os.environ["NEXAL_DB_SOCKET"]
        self.database = Kept("MariaDB", self._database, self._database_answers, dict, VAR / "mariadb.log")
        self.server = Kept("server", self._server, self._server_answers, self._environment, VAR / "server.log")
        self.stopping = False
        self.wanted = read(WANTS)
        self.began = time.time()

    def _database(self) -> list[str]:
        if not is_free(self.port):
            self.port = next((port for port in PORTS if is_free(port)), self.port)
        (VAR / "mariadb.port").write_text(str(self.port))
        data, user = VAR / "mariadb", os.environ["NEXAL_DB_OWNER"]
        return [
            "mariadbd",
            "--no-defaults",
            f"--user={user}",
            f"--datadir={data}",
            f"--socket={self.socket}",
            f"--pid-file={data}/server.pid",
            f"--port={self.port}",
            "--bind-address=127.0.0.1",
            "--skip-networking=0",
            "--skip-name-resolve",
            "--character-set-server=utf8mb4",
            "--innodb-flush-log-at-trx-commit=1",
        ]

    def _database_answers(self) -> bool:
        command = ["mariadb-admin", "--no-defaults", f"--socket={self.socket}", "-u", os.environ["NEXAL_DB_OWNER"]]
        return subprocess.run([*command, "ping"], capture_output=True, timeout=20).returncode == 0

    def _server(self) -> list[str]:
        chosen = self.wanted
        command = [sys.executable, "-m", "config.front", "--port", str(chosen["port"])]
        return [*command, "--workers", str(chosen.get("workers", 1))]

    def _environment(self) -> dict[str, str]:
        # Large bodies wait for their last byte on the disk that they are kept on.
        own = {"NEXAL_DB_PORT": str(self.port), "TMPDIR": str(VAR / "uploads")}
        return {**self.wanted.get("environment", {}), **own}

    def _server_answers(self) -> bool:
        return answer_seconds(self.wanted["port"], 2.0) is not None

    def run(self) -> None:
        signal.signal(signal.SIGTERM, self._stop)
        signal.signal(signal.SIGINT, self._stop)
        signal.signal(signal.SIGHUP, signal.SIG_IGN)
        unused_since, rotated = time.time(), time.time()
        while not self.stopping:
            if self.wanted or held(USERS):
                unused_since = time.time()
            elif time.time() - unused_since > UNUSED_SECONDS:
                break
            try:
                self._look()
                if time.time() - rotated > 30:
                    rotated = time.time()
                    for each in (self.database, self.server):
                        rotate(each.log)
            except Exception:
                # Whatever fails here, such as a log on a full disk, must not take along what is kept.
                traceback.print_exc()
                time.sleep(1)
            time.sleep(LOOK_SECONDS)
        self.server.stop(STOP_SECONDS)
        # It writes what it holds, which can take a while; killed, it would mend itself at the next start.
        self.database.stop(60)
        STATE.unlink(missing_ok=True)

    def _look(self) -> None:
        """See how everything is, start what is to run and does not, and tell."""
        self.wanted = read(WANTS)
        for each in (self.database, self.server):
            each.look()
        if self.database.process is None and time.time() >= self.database.not_before:
            self.database.start()
        if not self.wanted:
            self.server.stop(STOP_SECONDS)
        elif self.server.process is None and self.database.ready and time.time() >= self.server.not_before:
            self.server.start()
        self._tell()

    def _tell(self) -> None:
        told = {
            "pid": os.getpid(),
            "since": self.began,
            "database": {**self.database.told(), "port": self.port},
            "server": {**self.server.told(), "port": self.wanted.get("port")},
        }
        if told != getattr(self, "_told", None):
            self._told = told
            write(STATE, told)

    def _stop(self, number: int, frame: Any) -> None:
        self.stopping = True


def answer_seconds(port: int, patience: float) -> float | None:
    """How long the server takes to answer, None where it does not."""
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    began = time.monotonic()
    try:
        opener.open(f"http://127.0.0.1:{port}/api/session", timeout=patience).read()
    except (OSError, http.client.HTTPException):
        return None
    return time.monotonic() - began


def keep() -> int:
    """The process itself; ends at once where another keeps this house."""
    lock = hold(LOCK, fcntl.LOCK_EX)
    if lock is None:
        return 0
    # What one that was killed left.
    STATE.unlink(missing_ok=True)
    House().run()
    return 0


def ensure() -> None:
    """Have the process run."""
    if not held(LOCK):
        with (VAR / "house.log").open("ab") as log:
            subprocess.Popen(
                [sys.executable, str(Path(__file__).resolve()), "keep"],
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )


def present() -> dict[str, Any]:
    """What is kept, as the process that keeps it has told; empty where there is none."""
    state = read(STATE)
    return state if held(LOCK) and "house.py" in start_of(state.get("pid", 0)) else {}


def wait_for(part: str) -> dict[str, Any]:
    """The state of a part once it answers. Exits with the reason where it keeps failing."""
    deadline = time.monotonic() + START_SECONDS
    while time.monotonic() < deadline:
        state = present()
        found: dict[str, Any] = state.get(part, {})
        if found.get("ready"):
            return found
        if found.get("fails", 0) >= 3:
            trouble = found["troubles"][-1]
            fail(f"the {part} {trouble['reason']}: {' | '.join(trouble['last'])}", f"see {VAR}/*.log")
        if not held(LOCK):
            ensure()
        time.sleep(LOOK_SECONDS)
    fail(f"the {part} does not answer", f"see {VAR}/*.log")
    raise AssertionError


def fail(what: str, remedy: str) -> None:
    print(f"run: {what}; {remedy}", file=sys.stderr)
    sys.exit(1)


def database() -> int:
    ensure()
    print(wait_for("database")["port"])
    return 0


def program() -> str:
    """What the server is made of, in short: it changes with any file of its code, of the page, or of the libraries."""
    if given := os.environ.get("NEXAL_PROGRAM"):
        return given
    digest = hashlib.blake2b(digest_size=16)
    code = (
        path for part in ("core/nexal", "server") for path in ROOT.glob(f"{part}/**/*.py") if "tests" not in path.parts
    )
    for path in sorted([*code, *ROOT.glob("web/dist/index.html"), *ROOT.glob("requirements.lock")]):
        digest.update(f"{path.relative_to(ROOT)}\0".encode() + path.read_bytes())
    return digest.hexdigest()


def end_of_another(now: str) -> None:
    """End a server that runs another program than there is now."""
    known = read(WANTS)
    if not known or known.get("program") == now or not present().get("server", {}).get("pid"):
        return
    print("the program has changed since the server began: it is started anew", file=sys.stderr)
    WANTS.unlink(missing_ok=True)
    deadline = time.monotonic() + STOP_SECONDS + 5
    while present().get("server", {}).get("pid") and time.monotonic() < deadline:
        time.sleep(LOOK_SECONDS)


def server(port: int) -> int:
    now = program()
    end_of_another(now)
    running = present().get("server", {})
    if not (running.get("pid") and read(WANTS)) and not is_free(port):
        fail(f"port {port} is taken", "set NEXAL_PORT to a free one, or stop what uses it")
    known = read(WANTS)
    if not (running.get("pid") and known):
        environment = {name: value for name, value in os.environ.items() if name.startswith("NEXAL_")}
        workers = int(os.environ.get("NEXAL_WORKERS") or min(2, os.cpu_count() or 1))
        write(WANTS, {"port": port, "workers": workers, "environment": environment, "program": now})
    ensure()
    print(wait_for("server")["port"])
    return 0


def start_of(pid: int) -> str:
    """When a process began, in the kernel's own count, and what it is: two of the same number are told apart."""
    try:
        words = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return words[19] + Path(f"/proc/{pid}/cmdline").read_text().replace("\0", " ")
    except OSError:
        return ""


def stop() -> int:
    WANTS.unlink(missing_ok=True)
    if not held(LOCK):
        return 0
    state = present()
    if not state:
        fail("what keeps the server has only begun", "wait a moment and try again")
    if held(USERS):
        deadline = time.monotonic() + STOP_SECONDS + 5
        while present().get("server", {}).get("pid") and time.monotonic() < deadline:
            time.sleep(LOOK_SECONDS)
        print("the database goes on: another command uses it", file=sys.stderr)
        return 0
    pid = state["pid"]
    mine = start_of(pid)
    os.kill(pid, signal.SIGTERM)
    deadline = time.monotonic() + STOP_SECONDS + 20
    while held(LOCK) and time.monotonic() < deadline:
        time.sleep(LOOK_SECONDS)
    if held(LOCK) and start_of(pid) == mine:
        for part in ("server", "database"):
            child = state.get(part, {}).get("pid")
            if child and start_of(child):
                os.killpg(child, signal.SIGKILL)
        os.kill(pid, signal.SIGKILL)
    return 0


def status() -> int:
    if not held(LOCK):
        print("nothing runs")
        return 3
    state = present()
    wrong = False
    for part, name in (("database", "MariaDB"), ("server", "Server")):
        found = state.get(part, {})
        where = f"127.0.0.1:{found.get('port')}"
        since = time.strftime("%F %T", time.localtime(found.get("since", 0)))
        if found.get("pid"):
            seconds = answer_seconds(found["port"], 5) if part == "server" else None
            said = f", answers in {seconds * 1000:.0f} ms" if seconds is not None else ""
            silent = part == "server" and found["ready"] and seconds is None
            wrong |= silent
            word = "does not answer" if silent else "runs" if found["ready"] else "starts"
            print(f"{name:8} {word}, process {found['pid']}, {where}, since {since}{said}")
        elif part == "database" or read(WANTS):
            wrong = True
            print(f"{name:8} does not run, and is started again")
        else:
            print(f"{name:8} is not wanted")
        for trouble in found.get("troubles", [])[-3:]:
            at = time.strftime("%F %T", time.localtime(trouble["at"]))
            print(f"{'':8} {at} {trouble['reason']} after {trouble['lived']} s: {' | '.join(trouble['last'])[:300]}")
    return 1 if wrong else 0


def main(arguments: list[str]) -> int:
    match arguments:
        case ["keep"]:
            return keep()
        case ["database"]:
            return database()
        case ["server", port]:
            return server(int(port))
        case ["stop"]:
            return stop()
        case ["status"]:
            return status()
    print(__doc__, file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
