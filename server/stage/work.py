"""What a request or a job may take, and whose turn it is.

Every route runs as a `RequestWork`, every job as a `JobWork` (`nexal.work`): the engine tells it what an evaluation
will take before it begins, and asks it all the while whether the result is still wanted. Requests that compute come
into the hall one after the other, by person and by cost, so that whoever asks for much waits, and not the others.
"""

import math
import os
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache, wraps
from typing import Any

from django.conf import settings
from django.http import HttpRequest

from config.errors import Refused
from nexal.errors import Cancelled, TooMuch
from nexal.work import Cost, Work, current, working

LOOK_SECONDS = 0.05
"""How often it is looked, at the most, whether a client is still there."""
WAIT_SECONDS = 0.1
"""How often who waits for a turn looks whether it is still wanted."""
LIGHT_SECONDS = 0.02
"""What takes less than this waits for nobody."""
HEAVY_SECONDS = 1.0
"""What takes more than this leaves room for others."""
WAITING_EACH = 24
WAITING_ALL = 36
"""Most requests that wait for their turn: of one person, and of all. The server has more threads than that."""


def _size(count: float) -> str:
    return f"{count / 1e9:.1f} GB" if count >= 1e9 else f"{count / 1e6:.0f} MB"


class Bounded(Work):
    """Work that may take so many bytes at a time and so many seconds of one core in all."""

    def __init__(self, most_bytes: int, most_seconds: float, way_round: str) -> None:
        self.most_bytes, self.most_seconds, self.way_round = most_bytes, most_seconds, way_round
        self.seconds = 0.0

    def claim(self, cost: Cost) -> None:
        seconds = self.seconds + cost.seconds
        if cost.bytes > self.most_bytes or seconds > self.most_seconds:
            raise TooMuch(
                f"needs about {_size(cost.bytes)} of memory and {seconds:.1f} s of work; "
                f"{_size(self.most_bytes)} and {self.most_seconds:.0f} s are allowed",
                where=f"'{cost.item}'" if cost.item else "",
                remedy=self.way_round,
            )
        self.seconds = seconds


class JobWork(Bounded):
    """Renders and slow steps: larger bounds, and nobody waits for them at the other end."""

    def __init__(self) -> None:
        super().__init__(
            settings.NEXAL_JOB_BYTES,
            settings.NEXAL_JOB_SECONDS,
            "make the picture smaller, split the step, or render it on the command line",
        )


@dataclass(eq=False)
class _Place:
    who: Any
    cost: Cost
    arrived: int
    called: threading.Event = field(default_factory=threading.Event)


class Hall:
    """Lets `slots` requests compute at a time, of which all but one may be heavy, within `most_bytes` for all of them.

    Whose turn it is: who has fewest computing, then what takes least, then who came first.
    """

    def __init__(self, slots: int, most_bytes: float = math.inf) -> None:
        self.slots = slots
        self.most_bytes = most_bytes
        self._inside: list[_Place] = []
        self._waiting: list[_Place] = []
        self._lock = threading.Lock()
        self._arrivals = 0

    def enter(self, who: Any, cost: Cost, work: Work) -> _Place:
        """Wait for a place. Raises Refused where too many wait already, and Cancelled."""
        with self._lock:
            self._arrivals += 1
            place = _Place(who, cost, self._arrivals)
            mine = sum(other.who == who for other in self._waiting)
            if mine >= WAITING_EACH or len(self._waiting) >= WAITING_ALL:
                raise Refused(429, "busy", "too much is being computed already", remedy="try again in a moment")
            self._waiting.append(place)
            self._call()
        try:
            # Who is called is inside already: nobody else is woken for it.
            while not place.called.wait(WAIT_SECONDS):
                work.check()
        except BaseException:
            with self._lock:
                if place in self._waiting:
                    self._waiting.remove(place)
                else:
                    self._inside.remove(place)
                self._call()
            raise
        return place

    def leave(self, place: _Place) -> None:
        with self._lock:
            self._inside.remove(place)
            self._call()

    def _call(self) -> None:
        """Let in whoever may come."""
        while len(self._inside) < self.slots:
            computing = Counter(other.who for other in self._inside)
            heavy = sum(other.cost.seconds > HEAVY_SECONDS for other in self._inside)
            full = heavy >= max(1, self.slots - 1)
            room = self.most_bytes - sum(other.cost.bytes for other in self._inside)
            may = [
                other
                for other in self._waiting
                if (not full or other.cost.seconds <= HEAVY_SECONDS)
                # Alone, everybody has room: what one may take is bounded besides.
                and (other.cost.bytes <= room or not self._inside)
            ]
            if not may:
                return
            place = min(may, key=lambda other: (computing[other.who], other.cost.seconds, other.arrived))
            self._waiting.remove(place)
            self._inside.append(place)
            place.called.set()


@cache
def hall() -> Hall:
    return Hall(max(2, (os.cpu_count() or 2) // settings.NEXAL_PROCESSES + 1), settings.NEXAL_HOUSE_BYTES)


class RequestWork(Bounded):
    """The computing of one request: bounded, in its turn, and given up when its client is gone."""

    def __init__(self, request: HttpRequest) -> None:
        super().__init__(
            settings.NEXAL_REQUEST_BYTES,
            settings.NEXAL_REQUEST_SECONDS,
            "ask for a smaller region or scale, make the step smaller, or deliver it: renders may take more",
        )
        self._who = request.user.pk
        self._gone: Callable[[], bool] = request.META.get("waitress.client_disconnected", lambda: False)
        self._looked = 0.0
        self._place: _Place | None = None

    def check(self) -> None:
        now = time.monotonic()
        if now - self._looked < LOOK_SECONDS:
            return
        self._looked = now
        if self._gone():
            raise Cancelled("was given up: nobody waits for it any more")

    def claim(self, cost: Cost) -> None:
        super().claim(cost)
        if self._place is None and cost.seconds > LIGHT_SECONDS:
            # What waits is given up by a newer request too.
            self._place = hall().enter(self._who, cost, current())

    def end(self) -> None:
        if self._place is not None:
            hall().leave(self._place)


def as_request_work(route: Callable[..., Any]) -> Callable[..., Any]:
    """Decorator of every route: what it computes is the work of its request."""

    @wraps(route)
    def run(request: HttpRequest, *args: Any, **kwargs: Any) -> Any:
        work = RequestWork(request)
        try:
            with working(work):
                return route(request, *args, **kwargs)
        finally:
            work.end()

    return run
