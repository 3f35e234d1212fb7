"""How tests wait for what others do: until it is so, never for as long as it mostly takes."""

from __future__ import annotations

import time
from collections.abc import Callable

PATIENCE = 40
"""Seconds that anything may take: machines are noisy, and what is there is there at once."""


def wait_until(
    holds: Callable[[], object],
    what: str = "",
    seconds: float = PATIENCE,
    pause: Callable[[], object] = lambda: time.sleep(0.02),
) -> None:
    """Wait until something holds. What is asked about need not be there yet: a LookupError is a no.

    Raises AssertionError, which says `what` was waited for, after so many seconds.
    """
    deadline = time.monotonic() + seconds
    missing = ""
    while True:
        try:
            if holds():
                return
        except LookupError as error:
            missing = f" ({error!r})"
        if time.monotonic() > deadline:
            raise AssertionError(f"still not so after {seconds:.0f} s: {what}{missing}")
        pause()
