"""Timing: the best of several, interleaved, so that a noisy moment hits both sides."""

import time
from collections.abc import Callable, Mapping


def best(works: Mapping[str, Callable[[], object]], rounds: int = 7) -> dict[str, float]:
    """Shortest seconds of each work over interleaved rounds, after one round that does not count."""
    seconds = dict.fromkeys(works, float("inf"))
    for turn in range(rounds + 1):
        for name, work in works.items():
            start = time.perf_counter()
            work()
            if turn:
                seconds[name] = min(seconds[name], time.perf_counter() - start)
    return seconds


def report(title: str, lines: list[str]) -> None:
    print(title)
    for line in lines:
        print(f"  {line}")
