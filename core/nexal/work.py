"""The work that a computation is part of: whether it is still wanted, how far it is, and what it may take.

Whoever starts a computation puts its work round it (`working`); whatever takes long looks at it (`check`), however deep
it lies. Where nobody put anything, everything is wanted and nothing is bounded.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


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
