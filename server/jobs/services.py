"""Work that outlives its request, done by threads of any server process.

Apps register their kinds of work (`register`, in their `AppConfig.ready`) and ask for it by key (`submit`). A job is a
row; threads of every process claim rows with a lease, so that each is worked at once, and taken up again where the
process that had it is gone.
"""

import logging
import os
import secrets
import socket
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.db import DatabaseError, close_old_connections, connection, transaction
from django.db.models import F, Q
from django.utils import timezone

from jobs.models import Job

log = logging.getLogger("nexal.jobs")

LANES = {"files": 2, "slow": 1}
"""Threads of a server for each lane, at least one in each of its processes: slow pictures never keep imports and
renders waiting."""
LEASE = timedelta(seconds=8)
RENEW_SECONDS = 2.0
POLL_SECONDS = 2.0
SWEEP_SECONDS = 20.0
"""How often what is to be done and has no job is looked for."""
MOST_STARTS = 3
"""Starts of a job that did not end: after so many it is given up, since it may be what ends its process."""


@dataclass(frozen=True)
class Kind:
    """How a kind of work is done.

    `work` does the piece with a key, and may do it again: it was cut off before. `give_up` says of it that it is given
    up. `unfinished` are the keys of all that is to be done by the app's own rows; what has no job gets one.
    """

    work: Callable[[int], None]
    give_up: Callable[[int], None]
    unfinished: Callable[[], Iterable[int]]
    lane: str = "files"


class Later(Exception):
    """Raised by a piece of work that cannot be done yet and is to be tried again, through no fault of its own."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"again in {seconds:.0f} s")
        self.pause = timedelta(seconds=seconds)


_KINDS: dict[str, Kind] = {}


def register(name: str, kind: Kind) -> None:
    _KINDS[name] = kind


def submit(kind: str, key: int) -> None:
    """Have a piece of work done soon by some process; at once, in this one, where NEXAL_JOBS is `inline` (tests)."""
    if settings.NEXAL_JOBS == "inline":
        with suppress(Later):
            _KINDS[kind].work(key)
        return
    # Waits for a runner that is just about to strike the job off, see `_leave`.
    Job.objects.bulk_create([Job(kind=kind, key=key)], ignore_conflicts=True)
    transaction.on_commit(runner().wake)


def progressed(kind: str, key: int) -> None:
    """Say of a piece of work that a part of it is done: if its process ends now, that is no sign against it."""
    Job.objects.filter(kind=kind, key=key).update(starts=1)


class Runner:
    """The threads of this process that work at jobs."""

    def __init__(self) -> None:
        self.process = os.getpid()
        # Where every process is the first of its machine, as in containers, numbers come again.
        self.name = f"{socket.gethostname()[:40]}-{self.process}-{secrets.token_hex(6)}"
        self._pending = threading.Condition()
        self._woken = 0
        self._held: set[int] = set()
        self._started = False
        self._stopped = False

    def wake(self) -> None:
        with self._pending:
            if not self._started:
                self._started = True
                for lane, threads in LANES.items():
                    for number in range(max(1, threads // settings.NEXAL_PROCESSES)):
                        name = f"nexal-{lane}-{number}"
                        threading.Thread(target=self._run, args=(lane,), name=name, daemon=True).start()
                # Apart from each other: while what is to be done is looked for, leases are renewed as ever.
                threading.Thread(target=self._renew, name="nexal-leases", daemon=True).start()
                threading.Thread(target=self._sweep, name="nexal-sweeps", daemon=True).start()
            self._woken += 1
            self._pending.notify_all()

    def stop(self) -> None:
        """No further job is claimed; leases are renewed no more."""
        self._stopped = True
        with self._pending:
            self._pending.notify_all()

    def _run(self, lane: str) -> None:
        while not self._stopped:
            woken = self._woken
            try:
                done = self.step(lane)
            except DatabaseError:
                log.exception("jobs cannot be claimed")
                done = False
            finally:
                connection.close()
            if not done:
                with self._pending:
                    if self._woken == woken:
                        self._pending.wait(POLL_SECONDS)

    def step(self, lane: str) -> bool:
        """Claim one job of a lane and do it; whether there was one."""
        close_old_connections()
        job = claim(self.name, [name for name, kind in _KINDS.items() if kind.lane == lane])
        if job is None:
            return False
        self._held.add(job.pk)
        kind, pause = _KINDS[job.kind], None
        try:
            if job.starts > MOST_STARTS:
                log.error("job %s %s is given up: %s starts did not end", job.kind, job.key, MOST_STARTS)
                kind.give_up(job.key)
            else:
                kind.work(job.key)
        except Later as later:
            pause = later.pause
        except Exception:
            log.exception("job %s %s failed", job.kind, job.key)
        finally:
            self._held.discard(job.pk)
        self._leave(job, kind, pause)
        return True

    def _leave(self, job: Job, kind: Kind, pause: timedelta | None) -> None:
        """Strike a job off, unless there is still something to do: then it is free for anybody, after a pause."""
        with transaction.atomic():
            # Whoever took it over meanwhile, because the lease ran out, goes on with it.
            mine = Job.objects.select_for_update().filter(pk=job.pk, worker=self.name)
            if not mine.exists():
                return
            if pause is not None:
                mine.update(worker="", lease=timezone.now() + pause, starts=F("starts") - 1)
            elif job.key in set(kind.unfinished()):
                # Wanted anew while it was worked at, or left undone: in the end it is given up.
                mine.update(worker="", lease=None)
            else:
                mine.delete()

    def _renew(self) -> None:
        while not self._stopped:
            time.sleep(RENEW_SECONDS)
            try:
                if self._held:
                    held = Job.objects.filter(pk__in=list(self._held), worker=self.name)
                    held.update(lease=timezone.now() + LEASE)
            except DatabaseError:
                log.exception("leases cannot be renewed")
            finally:
                connection.close()

    def _sweep(self) -> None:
        while not self._stopped:
            with self._pending:
                self._pending.wait_for(lambda: self._stopped, SWEEP_SECONDS)
            try:
                if not self._stopped:
                    submit_unfinished()
            except Exception:
                # An app's question that fails is told, and asked again: nothing else looks for what has no job.
                log.exception("what is to be done cannot be looked for")
            finally:
                connection.close()


def claim(worker: str, kinds: Sequence[str]) -> Job | None:
    """The oldest job of some kinds that nobody works at, now this worker's; None where there is none."""
    now = timezone.now()
    free = Q(lease__isnull=True) | Q(lease__lt=now)
    with transaction.atomic():
        job = Job.objects.select_for_update(skip_locked=True).filter(free, kind__in=kinds).first()
        if job is None:
            return None
        Job.objects.filter(pk=job.pk).update(worker=worker, lease=now + LEASE, starts=F("starts") + 1)
        job.refresh_from_db()
    return job


_runner: Runner | None = None
_runner_lock = threading.Lock()


def runner() -> Runner:
    """This process's own."""
    global _runner
    with _runner_lock:
        if _runner is None or _runner.process != os.getpid():
            _runner = Runner()
        return _runner


def submit_unfinished() -> None:
    """No state without an end: what is to be done has a job, whatever became of the one that it had."""
    for name, kind in list(_KINDS.items()):
        for key in kind.unfinished():
            submit(name, key)


def resume() -> None:
    """At a server's start: what is to be done and has no job gets one; what was begun goes on when its lease ends."""
    submit_unfinished()
    if settings.NEXAL_JOBS != "inline":
        runner().wake()
