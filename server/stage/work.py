"""What a request or a job may take, and whose turn it is.

Every route runs as a `RequestWork`, every job as a `JobWork` (`nexal.work`): the engine tells it what an evaluation
will take before it begins, and asks it all the while whether the result is still wanted. Requests that compute come
into the hall one after the other, by person and by cost, so that whoever asks for much waits, and not the others.
"""

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
from nexal.work import Cost, Work, working

LOOK_SECONDS = 0.05
"""How often it is looked, at the most, whether a client is still there."""
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
    seconds: float
    arrived: int


@dataclass
class Hall:
    """Lets `slots` requests compute at a time, of which all but one may be heavy.

    Whose turn it is: who has fewest computing, then what takes least, then who came first.
    """

    slots: int
    _inside: list[_Place] = field(default_factory=list)
    _waiting: list[_Place] = field(default_factory=list)
    _changed: threading.Condition = field(default_factory=threading.Condition)
    _arrivals: int = 0

    def enter(self, who: Any, seconds: float, work: Work) -> _Place:
        """Wait for a place. Raises Refused where too many wait already, and Cancelled."""
        with self._changed:
            self._arrivals += 1
            place = _Place(who, seconds, self._arrivals)
            mine = sum(other.who == who for other in self._waiting)
            if mine >= WAITING_EACH or len(self._waiting) >= WAITING_ALL:
                raise Refused(429, "busy", "too much is being computed already", remedy="try again in a moment")
            self._waiting.append(place)
            try:
                while not self._is_next(place):
                    self._changed.wait(LOOK_SECONDS)
                    work.check()
                self._inside.append(place)
            finally:
                self._waiting.remove(place)
                self._changed.notify_all()
        return place

    def leave(self, place: _Place) -> None:
        with self._changed:
            self._inside.remove(place)
            self._changed.notify_all()

    def _is_next(self, place: _Place) -> bool:
        if len(self._inside) >= self.slots:
            return False
        computing = Counter(other.who for other in self._inside)
        heavy = sum(other.seconds > HEAVY_SECONDS for other in self._inside)
        may = [other for other in self._waiting if other.seconds <= HEAVY_SECONDS or heavy < max(1, self.slots - 1)]
        return place is min(may, key=lambda other: (computing[other.who], other.seconds, other.arrived), default=None)


@cache
def hall() -> Hall:
    return Hall((os.cpu_count() or 2) + 1)


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
            self._place = hall().enter(self._who, cost.seconds, self)

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
