"""How tests are patient: they wait until it is so, never for as long as it mostly takes, and no trial is late."""

from __future__ import annotations

import time
from collections.abc import Callable

from hypothesis import HealthCheck, settings

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


# The same trials each time: what is found by chance is found by whoever looks for it, not by whoever comes after.
settings.register_profile(
    "patient", deadline=None, derandomize=True, database=None, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("patient")


def trials(count: int) -> settings:
    """So many trials of a property, however long each takes."""
    return settings(settings.get_profile("patient"), max_examples=count)
