"""Slow operations computed in the background: one job for each result, with progress and a way to stop it."""

import logging
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

log = logging.getLogger("nexal.slow")

REMEMBERED = 200


@dataclass
class SlowJob:
    """One slow result on its way."""

    shot: int
    item: str
    digest: str
    wanted_by: set[str]
    cancellation: Cancellation = field(default_factory=Cancellation)
    state: str = "waiting"
    problem: NexalError | None = None


class SlowWork:
    """The jobs of this server, one for each result, whoever wants it.

    Who wants a newer result of the same step wants the older one no more; what nobody wants any more is given up. What
    somebody else wants goes on: two people with different drafts of one step do not take each other's work away.
    """

    def __init__(self, run: Callable[[Callable[[], None]], object]) -> None:
        self._run = run
        self._jobs: dict[tuple[int, str], SlowJob] = {}
        self._lock = threading.Lock()

    def start(self, shot: int, who: str, engine: Engine, plan: Plan, node: Node) -> SlowJob:
        """Begin for a page, unless that very result is on its way or was refused as it stands."""
        key = (shot, node.digest)
        with self._lock:
            for other in self._jobs.values():
                if (other.shot, other.item) == (shot, node.item) and other.digest != node.digest:
                    self._leave(other, who)
            known = self._jobs.get(key)
            if known and known.state in ("waiting", "working", "failed"):
                known.wanted_by.add(who)
                return known
            job = SlowJob(shot, node.item, node.digest, {who})
            self._jobs.pop(key, None)
            self._jobs[key] = job
            ended = [key for key, old in self._jobs.items() if old.state not in ("waiting", "working")]
            for old in ended[: max(0, len(self._jobs) - REMEMBERED)]:
                del self._jobs[old]
        self._run(lambda: self._work(job, engine, plan, node))
        return job

    def stop(self, shot: int, item: str, who: str) -> None:
        """A page wants a step's result no more."""
        with self._lock:
            for job in self._jobs.values():
                if (job.shot, job.item) == (shot, item):
                    self._leave(job, who)

    @staticmethod
    def _leave(job: SlowJob, who: str) -> None:
        job.wanted_by.discard(who)
        if not job.wanted_by and job.state in ("waiting", "working"):
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
            # A pool keeps what its work raises to itself.
            log.exception("slow step %s of shot %s failed", node.item, job.shot)
            job.problem = NexalError("failed on the server", where=f"step '{node.item}'", remedy="see the server's log")
            job.state = "failed"


@cache
def slow_work() -> SlowWork:
    if settings.NEXAL_JOBS == "inline":
        return SlowWork(lambda work: work())
    pool = ThreadPoolExecutor(1, thread_name_prefix="nexal-slow")
    return SlowWork(lambda work: pool.submit(work))
