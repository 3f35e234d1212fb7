"""Slow operations computed in the background: one job for each result, with progress and a way to stop it."""

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cache

from django.conf import settings

from nexal.engine import Cancellation, Engine, Node, Plan
from nexal.engine.plan import Feed
from nexal.errors import Cancelled, NexalError
from nexal.picture import Window

REMEMBERED = 200


@dataclass
class SlowJob:
    """One slow result on its way."""

    shot: int
    item: str
    digest: str
    cancellation: Cancellation = field(default_factory=Cancellation)
    state: str = "waiting"
    problem: NexalError | None = None


class SlowWork:
    """The jobs of this server. A newer result of the same step takes the place of an older one."""

    def __init__(self, run: Callable[[Callable[[], None]], object]) -> None:
        self._run = run
        self._jobs: dict[tuple[int, str], SlowJob] = {}
        self._lock = threading.Lock()

    def start(self, shot: int, engine: Engine, plan: Plan, node: Node) -> SlowJob:
        """Begin, unless that very result is on its way or was refused as it stands."""
        key = (shot, node.item)
        with self._lock:
            known = self._jobs.get(key)
            if known and known.digest == node.digest and known.state in ("waiting", "working", "failed"):
                return known
            job = SlowJob(shot, node.item, node.digest)
            self._jobs.pop(key, None)
            self._jobs[key] = job
            while len(self._jobs) > REMEMBERED:
                self._jobs.pop(next(iter(self._jobs)))
        if known:
            known.cancellation.cancel()
        self._run(lambda: self._work(job, engine, plan, node))
        return job

    def stop(self, shot: int, item: str) -> None:
        with self._lock:
            job = self._jobs.get((shot, item))
        if job and job.state in ("waiting", "working"):
            job.cancellation.cancel()
            job.state = "stopped"

    def of(self, shot: int) -> list[SlowJob]:
        with self._lock:
            return [job for job in self._jobs.values() if job.shot == shot]

    @staticmethod
    def _work(job: SlowJob, engine: Engine, plan: Plan, node: Node) -> None:
        if job.state == "stopped":
            return
        job.state = "working"
        window = node.description.window
        feed = Feed(node, {name: name for name in node.description.channels}, node.description)
        try:
            corner = Window(window.x, window.y, 1, 1)
            engine.evaluate(feed, plan, region=corner, cancellation=job.cancellation)
            job.state = "done"
        except Cancelled:
            job.state = "stopped"
        except NexalError as error:
            job.problem = error.at(f"step '{node.item}'")
            job.state = "failed"
        except BaseException:
            job.problem = NexalError("failed on the server", where=f"step '{node.item}'", remedy="see the server's log")
            job.state = "failed"
            raise


@cache
def slow_work() -> SlowWork:
    if settings.NEXAL_JOBS == "inline":
        return SlowWork(lambda work: work())
    pool = ThreadPoolExecutor(1, thread_name_prefix="nexal-slow")
    return SlowWork(lambda work: pool.submit(work))
