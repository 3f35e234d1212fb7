"""The work that a computation is part of: whether it is still wanted, how far it is, and what it may take.

Whoever starts a computation puts its work round it (`working`); whatever takes long looks at it (`check`), however deep
it lies. Where nobody put anything, everything is wanted and nothing is bounded.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from nexal.errors import Cancelled


@dataclass(frozen=True)
class Cost:
    """What a computation takes, about: `bytes` at its peak, `seconds` of one core; `item` is what takes most of it."""

    bytes: float = 0.0
    seconds: float = 0.0
    item: str = ""


class Work:
    """How far a long computation is, and whether it is still wanted."""

    def check(self) -> None:
        """Raises Cancelled once nobody wants the result any more."""

    def report(self, done: float) -> None:
        """`done` from 0 to 1."""

    def claim(self, cost: Cost) -> None:
        """Told before something begins that is known to take much. Raises TooMuch where that is more than allowed."""


_UNBOUNDED = Work()
_current: ContextVar[Work] = ContextVar("nexal-work", default=_UNBOUNDED)


def current() -> Work:
    """The work that this is part of."""
    return _current.get()


def check() -> None:
    """Raises Cancelled once nobody wants the present work's result any more. Cheap: may be asked at every block."""
    _current.get().check()


@contextmanager
def working(work: Work) -> Iterator[None]:
    """What is computed inside is part of that work; in this thread."""
    token = _current.set(work)
    try:
        yield
    finally:
        _current.reset(token)


class Cancellation(Work):
    """A flag that another thread may set to make an evaluation give up; `done` tells how far a long one is, 0 to 1.

    It is given up with the work that it is part of, too, and takes no more than that may.
    """

    def __init__(self) -> None:
        self._event = threading.Event()
        self._around = current()
        self.done = 0.0

    def claim(self, cost: Cost) -> None:
        self._around.claim(cost)

    def report(self, done: float) -> None:
        self.done = done

    def cancel(self) -> None:
        self._event.set()

    def check(self) -> None:
        """Raises Cancelled once the flag is set."""
        if self._event.is_set():
            raise Cancelled("was given up for a newer request")
        self._around.check()
