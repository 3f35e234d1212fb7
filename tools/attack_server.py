"""Crowds, slow clients and kills against a running demo, with a bystander whose waiting is measured.

./run attack crowd [PEOPLE] [SECONDS]     people drag a setting of a step, each at ten changes a second
./run attack slow [IDLE] [TRICKLING]      connections that send nothing, or a byte now and then
./run attack gone                         people ask for much and hang up
./run attack kills [COUNT]                server, database or decode worker killed at random while people save
"""

from __future__ import annotations

import contextlib
import http.client
import json
import os
import random
import signal
import socket
import statistics
import sys
import threading
import time
from collections import Counter
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
VAR = Path(os.environ.get("NEXAL_VAR", ROOT / "var"))
USER, PASSWORD = "compositor", "night-conservatory"


class Refused(OSError):
    """An answer that is none of those wanted."""

    def __init__(self, code: int, body: bytes) -> None:
        super().__init__(f"{code} {body[:200]!r}")
        self.code = code
        self.body = body


class Client:
    """One signed-in browser, as far as the server can tell: one connection that is kept open, and cookies."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.cookies: dict[str, str] = {}
        self.connection: http.client.HTTPConnection | None = None
        self.ask("/api/session")
        self.ask("/api/session", {"username": USER, "password": PASSWORD})

    def ask(self, path: str, body: Any = None, patience: float = 60) -> bytes:
        """The body of an answer. Raises Refused, OSError, HTTPException."""
        connection = self.connection or http.client.HTTPConnection("127.0.0.1", self.port)
        self.connection = None
        connection.timeout = patience
        if connection.sock is not None:
            connection.sock.settimeout(patience)
        headers = {"Cookie": "; ".join(f"{name}={value}" for name, value in self.cookies.items())}
        if body is not None:
            headers |= {"Content-Type": "application/json", "X-CSRFToken": self.cookies.get("csrftoken", "")}
        try:
            connection.request("GET" if body is None else "POST", path, body and json.dumps(body), headers)
            answer = connection.getresponse()
            content = answer.read()
        except BaseException:
            connection.close()
            raise
        for given in answer.headers.get_all("Set-Cookie", []):
            name, _, value = given.partition(";")[0].partition("=")
            self.cookies[name] = value
        self.connection = connection
        if answer.status >= 300:
            raise Refused(answer.status, content)
        return content

    def get(self, path: str) -> Any:
        return json.loads(self.ask(path))

    def shots(self) -> list[dict[str, Any]]:
        project = self.get("/api/projects")[0]["id"]
        found: list[dict[str, Any]] = self.get(f"/api/projects/{project}/shots")
        return found


class Bystander(threading.Thread):
    """Asks for next to nothing all the while, and notes how long it takes."""

    def __init__(self, port: int) -> None:
        super().__init__(daemon=True)
        self.client = Client(port)
        self.took: list[float] = []
        self.faults = 0
        self.over = threading.Event()

    def run(self) -> None:
        while not self.over.wait(0.05):
            began = time.monotonic()
            try:
                self.client.ask("/api/session", patience=30)
            except OSError:
                self.faults += 1
            self.took.append(time.monotonic() - began)

    def end(self) -> str:
        self.over.set()
        self.join()
        return f"a bystander's p95 {1000 * percentile(self.took, 95):.0f} ms, {self.faults} faults of {len(self.took)}"


def percentile(values: list[float], rank: int) -> float:
    return statistics.quantiles(values, n=100)[rank - 1] if len(values) > 1 else 0.0


def port() -> int:
    state = json.loads((VAR / "house" / "state.json").read_text())
    return int(state["server"]["port"])


def server_memory() -> float:
    """Megabytes that the processes of the server hold together; what they share counts once."""
    total = 0
    for pid in server_processes():
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
        total += next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
    return total / 1000


def server_processes() -> list[int]:
    first = json.loads((VAR / "house" / "state.json").read_text())["server"]["pid"]
    children = Path(f"/proc/{first}/task/{first}/children").read_text().split()
    return [first, *map(int, children)]


def crowd(people: int = 20, seconds: int = 20) -> int:
    """Each drags `white` of a stretch over the first shot's picture, at the stage's size."""
    at = port()
    shot = Client(at).shots()[0]["id"]
    source = next(iter(Client(at).get(f"/api/shots/{shot}")["head"]["recipe"]["sources"]))
    took: list[float] = []
    ends: Counter[str] = Counter()
    # Signing in takes long on purpose.
    clients = [Client(at) for _ in range(people)]
    over = time.monotonic() + seconds

    def drag(number: int) -> None:
        client = clients[number]
        recipe = client.get(f"/api/shots/{shot}")["head"]["recipe"]
        chance = random.Random(number)
        while time.monotonic() < over:
            steps = [
                {"name": "w", "op": "weigh", "in": {"from": source}},
                {"name": "d", "op": "stretch", "in": {"from": "w"}, "set": {"white": round(chance.random() + 0.1, 3)}},
            ]
            body = {"recipe": {**recipe, "steps": steps}, "address": "d", "scale": 2, "view": f"v{number}"}
            began = time.monotonic()
            try:
                client.ask(f"/api/shots/{shot}/view", body)
                took.append(time.monotonic() - began)
                ends["answered"] += 1
            except Refused as error:
                ends[str(error)] += 1
            time.sleep(max(0.0, 0.1 - (time.monotonic() - began)))

    bystander = Bystander(at)
    bystander.start()
    threads = [threading.Thread(target=drag, args=(number,)) for number in range(people)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    print(
        f"{people} people dragging for {seconds} s: p50 {1000 * percentile(took, 50):.0f} ms, "
        f"p95 {1000 * percentile(took, 95):.0f} ms, {dict(ends)}; {bystander.end()}; {server_memory():.0f} MB"
    )
    return 0


def slow(idle: int = 500, trickling: int = 200) -> int:
    at = port()
    before = Bystander(at)
    before.start()
    time.sleep(5)
    print(f"alone: {before.end()}")
    connections = [socket.create_connection(("127.0.0.1", at)) for _ in range(idle + trickling)]
    head = b"POST /api/shots/1/sources HTTP/1.1\r\nHost: localhost\r\nContent-Length: 300\r\n"
    over = threading.Event()

    def trickle() -> None:
        sent = 0
        while not over.wait(0.5):
            for connection in connections[idle:]:
                try:
                    connection.send(head[sent % len(head) : sent % len(head) + 1])
                except OSError:
                    continue
            sent += 1

    thread = threading.Thread(target=trickle, daemon=True)
    thread.start()
    during = Bystander(at)
    during.start()
    time.sleep(15)
    print(f"with {idle} idle and {trickling} trickling connections: {during.end()}")
    over.set()
    thread.join()
    for connection in connections:
        connection.close()
    return 0


def gone(people: int = 12) -> int:
    """Long chains of blurs over a large picture, asked for and left at once."""
    at = port()
    client = Client(at)
    shot = client.shots()[0]["id"]
    bystander = Bystander(at)
    bystander.start()
    for number in range(people):
        steps: list[dict[str, Any]] = [
            {"name": "n", "op": "noise", "set": {"width": 2048, "height": 1080, "octaves": 1, "seed": number}}
        ]
        for index in range(40):
            steps.append(
                {"name": f"b{index}", "op": "blur", "in": {"from": steps[-1]["name"]}, "set": {"radius": 3 + index / 9}}
            )
        body = {"recipe": {"nexal": 1, "steps": steps}, "address": "b39"}
        with contextlib.suppress(OSError, http.client.HTTPException):
            client.ask(f"/api/shots/{shot}/view", body, patience=0.2)
    time.sleep(1)

    def ticks() -> int:
        stats = [Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split() for pid in server_processes()]
        return sum(int(word) for words in stats for word in words[11:13])

    began = ticks()
    time.sleep(2)
    busy = (ticks() - began) / os.sysconf("SC_CLK_TCK") / 2
    print(f"{people} asked and hung up: a second later the server uses {busy:.2f} cores; {bystander.end()}")
    return 0


def kills(count: int = 200, seed: int = 0) -> int:
    """What was acknowledged is there after each kill, and the server is back."""
    chance = random.Random(seed)
    at = port()
    client = Client(at)
    project = client.get("/api/projects")[0]["id"]
    shot = json.loads(client.ask(f"/api/projects/{project}/shots", {"name": f"kills {time.time():.0f}"}))["id"]
    acknowledged, lost, slowest, attempts = 1, 0, 0.0, 0
    word = 0
    for number in range(count):
        state = json.loads((VAR / "house" / "state.json").read_text())
        part = chance.choice(("server", "server", "database"))
        killed = threading.Timer(chance.random() * 0.4, _kill, (state[part]["pid"],))
        killed.start()
        while killed.is_alive():
            word += 1
            attempts += 1
            try:
                recipe = {
                    "nexal": 1,
                    "steps": [{"name": "n", "op": "noise", "set": {"seed": word, "width": 64, "height": 64}}],
                }
                answer = client.ask(
                    f"/api/shots/{shot}/revisions", {"parent": acknowledged, "recipe": recipe}, patience=10
                )
                acknowledged = json.loads(answer)["number"]
            except Refused as error:
                if error.code == 409:
                    break
            except (OSError, http.client.HTTPException):
                break
        killed.join()
        began = time.monotonic()
        while True:
            try:
                head = client.get(f"/api/shots/{shot}")["head"]["number"]
                break
            except (OSError, http.client.HTTPException):
                time.sleep(0.05)
                if time.monotonic() - began > 60:
                    print(f"kill {number} of {part}: not back after 60 s")
                    return 1
        slowest = max(slowest, time.monotonic() - began)
        # One that was written and not acknowledged is no loss.
        lost += head < acknowledged
        acknowledged = head
        if number % 20 == 19:
            print(f"{number + 1} kills: {lost} of {attempts} lost, back within {slowest:.1f} s", flush=True)
    print(f"{count} kills (seed {seed}): {lost} acknowledged saves lost of {attempts} tried")
    print(f"back within {slowest:.1f} s at the latest")
    return 1 if lost else 0


def _kill(pid: int | None) -> None:
    if pid:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)


if __name__ == "__main__":
    name, *numbers = sys.argv[1:]
    sys.exit({"crowd": crowd, "slow": slow, "gone": gone, "kills": kills}[name](*(int(each) for each in numbers)))
