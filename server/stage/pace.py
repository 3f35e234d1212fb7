"""When who follows something that changes should ask again.

Requests that come all at once wait for each other in the server, and what they show is old by as much once they are
answered. Where they wait for their turn before they are sent, each asks for what is newest by then, and is answered as
if it were alone.
"""

import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from typing import NamedTuple

from django.http import HttpRequest

from nexal.engine import Cancellation
from stage.superseding import newest

LONGEST_SECONDS = 0.5
"""What anybody is told to wait at the most, however many there are."""
DEAREST_SECONDS = 0.1
"""What an answer is taken to cost at the most: work of seconds that is done beside it is not its own."""
AVERAGED = 16
"""Answers that their cost is averaged over."""
WIDER, CLOSER = 1.04, 0.998
"""What the distance of two turns is multiplied by where one meets two others that are worked at, and where not: one
answer in some twenty meets them then."""
CLOSEST, WIDEST = 1.0, 3.0
"""That distance, in the cost of an answer."""
COMPANY_SECONDS = 1.0
"""How long after an answer its person is taken to follow still."""


class Pace:
    """Turns at one process: each answer gives its person the next that nobody else has by then.

    The distance of two turns follows what an answer costs, as processor time of the whole process since the one before
    it, and how often they meet all the same.
    """

    def __init__(
        self, clock: Callable[[], float] = time.monotonic, spent: Callable[[], float] = time.process_time
    ) -> None:
        self._clock, self._spent = clock, spent
        self._lock = threading.Lock()
        self._before, self._cost, self._distance = spent(), 0.01, CLOSEST
        self._free = 0.0
        self._at_work: Counter[str] = Counter()
        self._answered: dict[str, float] = {}

    @contextmanager
    def answering(self, who: str) -> Iterator[Callable[[], float]]:
        """For the time that a request of a person is worked at. Gives what tells, once the answer is there, how many
        seconds from then they should ask again: 0 where nobody else would be in their way."""
        with self._lock:
            met = self._at_work.total() - self._at_work[who]
            self._distance = min(max(self._distance * (WIDER if met >= 2 else CLOSER), CLOSEST), WIDEST)
            self._at_work[who] += 1
        try:
            yield lambda: self._next(who)
        finally:
            with self._lock:
                self._at_work[who] -= 1
                if not self._at_work[who]:
                    del self._at_work[who]

    def _next(self, who: str) -> float:
        with self._lock:
            now, spent = self._clock(), self._spent()
            self._cost += (min(spent - self._before, DEAREST_SECONDS) - self._cost) / AVERAGED
            self._before = spent
            self._answered = {one: at for one, at in self._answered.items() if now - at < COMPANY_SECONDS}
            self._answered[who] = now
            if len(self._answered) == 1:
                # Several views of one person are asked for together, and nobody gains if they wait for each other.
                return 0.0
            # What is worked at already comes first.
            begins = max(self._free, now + self._cost * (self._at_work.total() - 1))
            begins = min(begins, now + LONGEST_SECONDS)
            self._free = begins + self._cost * self._distance
            wait = begins - now
            return wait if wait > self._cost else 0.0


@cache
def pace() -> Pace:
    """That of this process: a browser keeps to one, whose connection it has."""
    return Pace()


class Followed(NamedTuple):
    """A request of something that is followed as it changes."""

    cancellation: Cancellation | None
    next: Callable[[], float]
    """Seconds from when it is answered until it should be asked again."""


@contextmanager
def followed(request: HttpRequest, shot_id: int, view: str) -> Iterator[Followed]:
    """For the time that a request of a named view is worked at; without a name nothing follows it."""
    if not view:
        yield Followed(None, lambda: 0.0)
        return
    who = str(request.session.session_key)
    cancellation = newest(request, shot_id, view)
    with pace().answering(who) as following:
        yield Followed(cancellation, following)
