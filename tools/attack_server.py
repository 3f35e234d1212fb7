"""Crowds, slow clients, kills, damaged files and recipes against a running demo, and how long a bystander waits.

./run attack crowd [PEOPLE] [SECONDS]     people drag a setting of a step, each at ten changes a second
./run attack slow [IDLE] [TRICKLING]      connections that send nothing, or a byte now and then
./run attack gone                         people ask for much and hang up
./run attack kills [COUNT] [SEED]         server, database or decode worker killed while people save, import and render
./run attack uploads [COUNT] [SEED]       damaged files imported, followed until each is read or told
./run attack asked [COUNT] [SEED]         mutated recipes of the demo's shots on the routes that take one
"""

from __future__ import annotations

import contextlib
import http.client
import io
import itertools
import json
import os
import random
import signal
import socket
import statistics
import sys
import tempfile
import threading
import time
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT)]

from tools.attack_files import sound_files  # noqa: E402
from tools.mutating import damaged, mutated  # noqa: E402

VAR = Path(os.environ.get("NEXAL_VAR", ROOT / "var"))
USER, PASSWORD = "compositor", "night-conservatory"
BOUNDARY = "nexal-attack-boundary"
EXR = b"\x76\x2f\x31\x01"
RANGE = {"first": 1, "last": 12}
"""The frames of each render: enough that they go to workers."""
"""What every OpenEXR file begins with."""


class Refused(OSError):
    """An answer that is none of those wanted."""

    def __init__(self, code: int, body: bytes) -> None:
        super().__init__(f"{code} {body[:200]!r}")
        self.code = code
        self.body = body


class Client:
    """One signed-in browser, as far as the server can tell: one connection that is kept open, and cookies."""

    def __init__(self, port: int, name: str = USER) -> None:
        self.port = port
        self.cookies: dict[str, str] = {}
        self.connection: http.client.HTTPConnection | None = None
        self.turn = 0.0
        """When what is followed should be asked for again, as the server told with its last answer."""
        self.ask("/api/session")
        self.ask("/api/session", {"username": name, "password": PASSWORD})

    def ask(self, path: str, body: Any = None, patience: float = 60, method: str = "") -> bytes:
        """The body of an answer; what is sent is JSON or, as bytes, a form. Raises Refused, OSError, HTTPException."""
        connection = self.connection or http.client.HTTPConnection("127.0.0.1", self.port)
        self.connection = None
        connection.timeout = patience
        if connection.sock is not None:
            connection.sock.settimeout(patience)
        headers = {"Cookie": "; ".join(f"{name}={value}" for name, value in self.cookies.items())}
        method = method or ("GET" if body is None else "POST")
        if method != "GET":
            kind = f"multipart/form-data; boundary={BOUNDARY}" if isinstance(body, bytes) else "application/json"
            headers |= {"Content-Type": kind, "X-CSRFToken": self.cookies.get("csrftoken", "")}
        try:
            connection.request(
                method, path, body if body is None or isinstance(body, bytes) else json.dumps(body), headers
            )
            answer = connection.getresponse()
            content = answer.read()
        except BaseException:
            connection.close()
            raise
        for given in answer.headers.get_all("Set-Cookie", []):
            name, _, value = given.partition(";")[0].partition("=")
            self.cookies[name] = value
        self.connection = connection
        self.turn = time.monotonic() + int(answer.headers.get("X-Nexal-Next", 0)) / 1000
        if answer.status >= 300:
            raise Refused(answer.status, content)
        return content

    def get(self, path: str) -> Any:
        return json.loads(self.ask(path))

    def upload(self, shot: int, name: str, content: bytes) -> dict[str, Any]:
        """The row of a file that was imported into a shot."""
        head = f'Content-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
        form = f"--{BOUNDARY}\r\n{head}".encode() + content + f"\r\n--{BOUNDARY}--\r\n".encode()
        row: dict[str, Any] = json.loads(self.ask(f"/api/shots/{shot}/sources", form))
        return row

    def settled(self, shot: int, row: dict[str, Any], patience: float = 60) -> dict[str, Any]:
        """The row of an import once it is read or told why not. Raises TimeoutError."""
        over = time.monotonic() + patience
        while row["state"] not in ("ready", "failed"):
            if time.monotonic() > over:
                raise TimeoutError(f"{row['files']} is still {row['state']} after {patience} s")
            time.sleep(0.05)
            row = self.get(f"/api/shots/{shot}/sources/{row['id']}")
        return row

    def shots(self) -> list[dict[str, Any]]:
        project = self.get("/api/projects")[0]["id"]
        found: list[dict[str, Any]] = self.get(f"/api/projects/{project}/shots")
        return found

    def new_shot(self, name: str) -> int:
        project = self.get("/api/projects")[0]["id"]
        made = json.loads(self.ask(f"/api/projects/{project}/shots", {"name": f"{name} {time.time():.2f}"}))
        return int(made["id"])


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


def crowd(people: int = 20, seconds: int = 15) -> int:
    """One person drags `white` of a stretch over their shot's picture, then all of them, each over their own shot's,
    then all while somebody asks for work of seconds; ten changes a second, at the stage's size."""
    at = port()
    owner = Client(at)
    shots = _still_shots(owner)
    # Signing in takes long on purpose.
    clients = [_somebody(owner, number) for number in range(people + 1)]
    ends: Counter[str] = Counter()
    bystander = Bystander(at)
    bystander.start()
    phases = {}
    for name, several, heavy in (("one", 1, False), ("all", people, False), ("with a heavy one", people, True)):
        over = time.monotonic() + seconds
        took: list[list[tuple[float, float]]] = [[] for _ in range(several)]
        work = [
            threading.Thread(target=_drag, args=(n, clients[n], shots[n % len(shots)], over, took[n], ends))
            for n in range(several)
        ]
        if heavy:
            work.append(threading.Thread(target=_ask_much, args=(clients[people], shots[0], over, ends)))
        for thread in work:
            thread.start()
        for thread in work:
            thread.join()
        phases[name] = took
    p95 = {name: percentile([one for own in took for one in _answered(own)], 95) for name, took in phases.items()}
    each = sorted(percentile(_answered(own), 95) for own in phases["all"])
    seen = [later[1] - sooner[0] for own in phases["all"] for sooner, later in itertools.pairwise(own)]
    print(
        f"{people} people dragging, each over their own shot: p95 {1000 * p95['all']:.0f} ms, "
        f"{p95['all'] / p95['one']:.1f} of one alone ({1000 * p95['one']:.0f} ms; aim 4); "
        f"beside somebody who asks for work of seconds {p95['with a heavy one'] / p95['all']:.2f} of that; "
        f"the slowest person's p95 is {each[-1] / each[len(each) // 2]:.2f} of the middle one's; "
        f"{len(seen) / seconds / people:.1f} pictures a second each, when the next comes "
        f"{1000 * percentile(seen, 50):.0f} ms old (p95 {1000 * percentile(seen, 95):.0f}); "
        f"{dict(ends)}; {bystander.end()}; {server_memory():.0f} MB"
    )
    return 0


def _answered(took: list[tuple[float, float]]) -> list[float]:
    return [came - began for began, came in took]


def _somebody(owner: Client, number: int) -> Client:
    """The crowd's person of a number, signed in and a member of the demo's project; made if they are not there yet."""
    name = f"crowd-{number}"
    with suppress(Refused):
        owner.ask("/api/people", {"username": name, "name": name, "password": PASSWORD})
    project = owner.get("/api/projects")[0]["id"]
    with suppress(Refused):
        owner.ask(f"/api/projects/{project}/members", {"username": name, "role": "artist"})
    return Client(owner.port, name)


def _still_shots(client: Client) -> list[tuple[int, dict[str, Any], str]]:
    """Shots with a picture in colour: their number, their sources, and the name of that picture."""
    found = []
    for row in client.shots():
        shot = client.get(f"/api/shots/{row['id']}")
        sources = {
            name: source
            for name, source in shot["head"]["recipe"].get("sources", {}).items()
            if "#" not in source["files"] and "frames" not in source
        }
        for name in sources:
            with suppress(OSError):
                recipe = {"nexal": 1, "sources": sources}
                client.ask(f"/api/shots/{row['id']}/view", _dragged(recipe, name, 0.5, "first"))
                found.append((int(row["id"]), recipe, name))
                break
    return found


def _dragged(recipe: dict[str, Any], source: str, white: float, view: str) -> dict[str, Any]:
    steps = [
        {"name": "w", "op": "weigh", "in": {"from": source}},
        {"name": "d", "op": "stretch", "in": {"from": "w"}, "set": {"white": white}},
    ]
    return {"recipe": {**recipe, "steps": steps}, "address": "d", "scale": 2, "exposure": 0, "view": view}


def _drag(
    number: int,
    client: Client,
    of: tuple[int, dict[str, Any], str],
    over: float,
    took: list[tuple[float, float]],
    ends: Counter[str],
) -> None:
    shot, recipe, source = of
    # Two at the same shot ask for different things.
    chance = random.Random(number)
    while time.monotonic() < over:
        began = time.monotonic()
        try:
            client.ask(f"/api/shots/{shot}/view", _dragged(recipe, source, round(chance.random() + 0.1, 4), "drag"))
            took.append((began, time.monotonic()))
            ends["answered"] += 1
        except Refused as error:
            ends[str(error)] += 1
        # As the page does: with the next change, and not before its turn.
        time.sleep(max(0.0, began + 0.1 - time.monotonic(), client.turn - time.monotonic()))


def _ask_much(client: Client, of: tuple[int, dict[str, Any], str], over: float, ends: Counter[str]) -> None:
    """One heavy view after the other: a wide disc, of something that was not asked for before."""
    shot, recipe, source = of
    chance = random.Random(shot)
    while time.monotonic() < over:
        steps = [
            {"name": "w", "op": "weigh", "in": {"from": source}},
            {"name": "d", "op": "grow", "in": {"matte": "w"}, "set": {"distance": round(150 + chance.random(), 4)}},
        ]
        try:
            body = {"recipe": {**recipe, "steps": steps}, "address": "d", "scale": 1, "view": "much"}
            client.ask(f"/api/shots/{shot}/view", body)
            ends["heavy ones answered"] += 1
        except Refused as error:
            ends[str(error)] += 1


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
    """What was acknowledged, saves, imports and renders, is there after each kill, and the server is back."""
    chance = random.Random(seed)
    client = Client(port())
    shot = client.new_shot("kills")
    victims: Counter[str] = Counter()
    acknowledged, lost, saves, slowest = 1, 0, 0, 0.0
    imported: list[dict[str, Any]] = []
    rendered: list[int] = []
    imports = gone_imports = renders = gone_renders = 0
    with tempfile.TemporaryDirectory() as place:
        sound = [path for path in sound_files(Path(place)) if path.suffix in (".exr", ".png")]
        contents = [(path.suffix, path.read_bytes()) for path in sound]
    for number in range(count):
        part = chance.choice(("server", "database", "worker"))
        killed = threading.Timer(chance.random() * 0.4, lambda victim=part: victims.update([_kill(victim)]))
        killed.start()
        suffix, content = chance.choice(contents)
        while killed.is_alive():
            try:
                if acknowledged > 1 and chance.random() < 0.1:
                    rendered.append(_render(client, shot, f"d{number}_{saves}_{len(rendered)}"))
                elif part == "worker" or chance.random() < 0.3:
                    # What was unpacked before would not be unpacked again.
                    unlike = content + chance.randbytes(8)
                    imported.append(client.upload(shot, f"k{number}{suffix}", unlike))
                else:
                    noise = {"name": "n", "op": "noise", "set": {"seed": saves, "width": 64, "height": 64}}
                    body = {"parent": acknowledged, "recipe": {"nexal": 1, "steps": [noise]}}
                    saves += 1
                    acknowledged = json.loads(client.ask(f"/api/shots/{shot}/revisions", body, patience=10))["number"]
            except Refused as error:
                if error.code == 409:
                    break
            except (OSError, http.client.HTTPException):
                if part != "worker":
                    break
        killed.join()
        began = time.monotonic()
        head = _back(client, shot)
        if head is None:
            print(f"kill {number} of {part}: not back after 60 s")
            return 1
        slowest = max(slowest, time.monotonic() - began)
        # One that was written and not acknowledged is no loss.
        lost += head < acknowledged
        acknowledged = head
        if number % 20 == 19 or number == count - 1:
            imports += len(imported)
            gone_imports += sum(not _read(client, shot, row) for row in imported)
            imported.clear()
            renders += len(rendered)
            gone_renders += sum(not _delivered(client, shot, deliverable) for deliverable in rendered)
            rendered.clear()
            print(
                f"{number + 1} kills {dict(victims)}: {lost} of {saves} saves, {gone_imports} of {imports} imports and "
                f"{gone_renders} of {renders} renders lost, back within {slowest:.1f} s",
                flush=True,
            )
    return 1 if lost or gone_imports or gone_renders else 0


def _render(client: Client, shot: int, name: str) -> int:
    """A deliverable of the saved step, and its render of a range, which was acknowledged."""
    spec = {"from": "n", "file": f"{name}.%04d.exr", "format": "exr"}
    made = json.loads(client.ask(f"/api/shots/{shot}/deliverables", {"name": name, "spec": spec}))
    client.ask(f"/api/shots/{shot}/deliverables/{made['id']}/renders", RANGE)
    return int(made["id"])


def _delivered(client: Client, shot: int, deliverable: int, patience: float = 60) -> bool:
    """Whether a render is done at last, each of its frames there once and whole; one that was cut off three times, and
    told so, is asked for again. The deliverable is deleted."""
    over = time.monotonic() + patience
    again = f"/api/shots/{shot}/deliverables/{deliverable}/renders"
    try:
        while time.monotonic() < over:
            rows = client.get(f"/api/shots/{shot}/deliverables")
            render = next(row["render"] for row in rows if row["id"] == deliverable)
            if render and render["state"] == "done":
                content = client.ask(f"/api/shots/{shot}/renders/{render['id']}/files")
                client.ask(f"/api/shots/{shot}/deliverables/{deliverable}", method="DELETE")
                with zipfile.ZipFile(io.BytesIO(content)) as archive:
                    names = archive.namelist()
                    whole = all(archive.read(name).startswith(EXR) for name in names)
                return whole and len(names) == len(set(names)) == RANGE["last"]
            errors = [frame["error"] for frame in render["frames"] if frame["error"]] if render else []
            if errors and render["state"] == "failed" and all(error["code"] == "given_up" for error in errors):
                client.ask(again, RANGE)
            time.sleep(0.1)
    except (Refused, StopIteration) as error:
        print(f"deliverable {deliverable}: {error}")
    return False


def _back(client: Client, shot: int, patience: float = 60) -> int | None:
    """The newest revision's number, once the server answers again."""
    over = time.monotonic() + patience
    while time.monotonic() < over:
        try:
            number: int = client.get(f"/api/shots/{shot}")["head"]["number"]
            return number
        except (OSError, http.client.HTTPException):
            time.sleep(0.05)
    return None


def _read(client: Client, shot: int, row: dict[str, Any]) -> bool:
    """Whether an acknowledged import is read at last; one whose reader was killed is read again. It is deleted."""
    try:
        row = client.settled(shot, row)
        if row["state"] == "failed":
            client.ask(f"/api/shots/{shot}/sources/{row['id']}/again", method="POST")
            row = client.settled(shot, row | {"state": "waiting"})
        client.ask(f"/api/shots/{shot}/sources/{row['id']}", method="DELETE")
    except (Refused, TimeoutError) as error:
        print(f"{row['files']}: {error}")
        return False
    return bool(row["state"] == "ready")


def _kill(part: str) -> str:
    """Kill a process of the house, or a decode worker, which is waited for a little; what was killed."""
    pids = [json.loads((VAR / "house" / "state.json").read_text())[part]["pid"]] if part != "worker" else []
    over = time.monotonic() + 3
    while part == "worker" and not pids and time.monotonic() < over:
        pids = _workers()
        time.sleep(0.005)
    for pid in pids:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid or 0, signal.SIGKILL)
            return part
    return "nobody"


def _workers() -> list[int]:
    """The processes of the server that unpack files."""
    found = []
    for parent in server_processes():
        for child in Path(f"/proc/{parent}/task").glob("*/children"):
            with contextlib.suppress(OSError):
                for pid in map(int, child.read_text().split()):
                    if b"nexal.formats.worker" in Path(f"/proc/{pid}/cmdline").read_bytes():
                        found.append(pid)
    return found


def uploads(count: int = 1000, seed: int = 0) -> int:
    """Damaged files of all formats through the whole server, and a bystander."""
    at = port()
    chance = random.Random(seed)
    ends: Counter[str] = Counter()
    took: list[float] = []
    with tempfile.TemporaryDirectory() as place:
        contents = [(path.suffix, path.read_bytes()) for path in sound_files(Path(place))]
    files = [(suffix, damaged(content, chance)) for suffix, content in chance.choices(contents, k=count)]

    def send(client: Client, shot: int, number: int) -> None:
        suffix, content = files[number]
        began = time.monotonic()
        try:
            row = client.settled(shot, client.upload(shot, f"f{number}{suffix}", content))
            told = row["state"] == "ready" or row["problem"]["remedy"]
            ends[row["state"] if told and (row["problem"] or {}).get("code") != "internal" else "untold"] += 1
            client.ask(f"/api/shots/{shot}/sources/{row['id']}", method="DELETE")
        except Refused as error:
            ends[f"refused {error.code}"] += 1
        except TimeoutError as error:
            ends["stuck"] += 1
            print(error)
        took.append(time.monotonic() - began)

    told = _by_people(at, 3, count, send)
    print(f"{count} files (seed {seed}): {dict(ends)}; slowest {max(took):.1f} s; {told}; {server_memory():.0f} MB")
    bad = sum(number for end, number in ends.items() if end not in ("ready", "failed", "refused 400", "refused 422"))
    return 1 if bad or max(took) > 10 else 0


def asked(count: int = 5000, seed: int = 0) -> int:
    """Mutated recipes of all shots of the demo, on routes that take a recipe and change nothing."""
    at = port()
    chance = random.Random(seed)
    client = Client(at)
    bases = [(shot["id"], client.get(f"/api/shots/{shot['id']}")["head"]["recipe"]) for shot in client.shots()]
    bases = [(shot, recipe) for shot, recipe in bases if recipe.get("steps")]
    asks = []
    for _ in range(count):
        shot, recipe = chance.choice(bases)
        route, body = chance.choice(list(_asks(chance.choice(recipe["steps"])["name"]).items()))
        if chance.random() < 0.3:
            whole = mutated({**body, "recipe": recipe}, chance)
        else:
            whole = {**body, "recipe": mutated(recipe, chance)}
        asks.append((shot, route, whole))
    ends: Counter[int] = Counter()
    took: list[tuple[float, str]] = []

    def send(client: Client, _: int, number: int) -> None:
        shot, route, whole = asks[number]
        began = time.monotonic()
        try:
            client.ask(f"/api/shots/{shot}/{route}", whole)
            ends[200] += 1
        except Refused as error:
            ends[error.code] += 1
            if error.code == 500:
                print(f"{route} of {shot}: {json.dumps(whole)[:2000]}")
        took.append((time.monotonic() - began, route))

    told = _by_people(at, 2, count, send)
    slowest = ", ".join(f"{route} {seconds:.1f} s" for seconds, route in sorted(took, reverse=True)[:5])
    over = sum(seconds > 3 for seconds, _ in took)
    print(f"{count} recipes (seed {seed}): {dict(ends)}; {over} over 3 s, slowest {slowest}; {told}")
    return 1 if ends[500] or over else 0


def _asks(name: str) -> dict[str, dict[str, Any]]:
    """What may be asked about a step, by route."""
    return {
        "inspect": {},
        "view": {"address": name, "scale": 2},
        "probe": {"addresses": [name], "x": 30, "y": 30},
        "histogram": {"address": name},
        "scout": {"address": name, "marks": [{"x": 20, "y": 20, "radius": 5, "side": "subject"}]},
        "thin": {"item": name},
        "checks": {"item": name},
        "audit": {"address": name},
        "diagnose": {"address": name},
        "profile": {"addresses": [name], "start": [8, 8], "end": [40, 24]},
        "shares": {"item": name},
        "slow": {"address": name},
        "lit": {"packed": name, "size": 32},
        "proof": {"address": name},
        "losses": {"address": name, "seen": name},
    }


def _by_people(at: int, people: int, count: int, send: Callable[[Client, int, int], None]) -> str:
    """Have `count` things sent, each person one after the other in a shot of their own; what a bystander saw."""
    numbers = iter(range(count))
    turn = threading.Lock()

    def work(client: Client, shot: int) -> None:
        while True:
            with turn:
                number = next(numbers, None)
            if number is None:
                return
            send(client, shot, number)

    clients = [Client(at) for _ in range(people)]
    threads = [threading.Thread(target=work, args=(each, each.new_shot("attack"))) for each in clients]
    bystander = Bystander(at)
    bystander.start()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return bystander.end()


if __name__ == "__main__":
    name, *numbers = sys.argv[1:]
    attacks: Iterable[Callable[..., int]] = (crowd, slow, gone, kills, uploads, asked)
    sys.exit({attack.__name__: attack for attack in attacks}[name](*(int(each) for each in numbers)))
