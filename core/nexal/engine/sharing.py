"""Nothing is computed twice at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Mapping
from concurrent.futures import Future

from nexal.errors import Cancelled
from nexal.picture import Plane
from nexal.work import Work

Planes = Mapping[str, Plane]
Make = Callable[[tuple[str, ...]], Planes]


class Sharing:
    """Computations that are under way, by what they compute. Safe to use from many threads."""

    def __init__(self) -> None:
        self._flying: dict[Hashable, Future[Planes]] = {}
        self._lock = threading.Lock()

    def planes(
        self, ticket: Hashable, channels: tuple[str, ...], work: Work, find: Callable[[str], Plane | None], make: Make
    ) -> Planes:
        """Planes that are there, and those that are not: computed once, whoever else asks for them meanwhile.

        `ticket` is what the channels are of. Who waits for somebody else's computation looks at its own work all the
        while, and takes over where the other gave up.
        """
        while True:
            work.check()
            found = {name: plane for name in channels if (plane := find(name)) is not None}
            missing = tuple(name for name in channels if name not in found)
            if not missing:
                return found
            with self._lock:
                running = self._flying.get((ticket, missing))
                if running is None:
                    mine: Future[Planes] = Future()
                    self._flying[ticket, missing] = mine
            if running is None:
                return found | dict(self._lead(ticket, missing, mine, make))
            try:
                return found | dict(_awaited(running, work))
            except _OthersGaveUp:
                continue

    def _lead(self, ticket: Hashable, missing: tuple[str, ...], future: Future[Planes], make: Make) -> Planes:
        """Compute for everybody who waits for the same."""
        try:
            planes = make(missing)
            future.set_result(planes)
            return planes
        except BaseException as error:
            future.set_exception(error)
            # Nobody may be waiting; a future's unread exception is no fault.
            future.exception()
            raise
        finally:
            with self._lock:
                self._flying.pop((ticket, missing), None)


class _OthersGaveUp(Exception):
    """Whoever computed what one waits for gave it up."""


def _awaited(running: Future[Planes], work: Work) -> Planes:
    while True:
        work.check()
        try:
            return running.result(timeout=0.05)
        except TimeoutError:
            # The computation itself may have run out of some time; then there is no more to wait for.
            if running.done():
                raise
        except Cancelled:
            raise _OthersGaveUp from None
