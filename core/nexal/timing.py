"""Sources in time: which file of a source of many stands at a frame, and what stands where there is none."""

from __future__ import annotations

import itertools
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from nexal.errors import SourceError


class TimedSpec(Protocol):
    """How a recipe's source lies in time; see `recipe.SourceSpec`."""

    @property
    def offset(self) -> int: ...
    @property
    def first(self) -> int | None: ...
    @property
    def last(self) -> int | None: ...
    @property
    def before(self) -> str: ...
    @property
    def after(self) -> str: ...
    @property
    def missing(self) -> str: ...


@dataclass(frozen=True, slots=True)
class Choice:
    """The number of the file that stands at a frame; with `black`, one of its size that holds nothing."""

    number: int
    black: bool = False
    told: str = ""
    """What is to be told of it: that the number is not there, or that it is held beyond the end."""


def ends_of(numbers: Sequence[int], spec: TimedSpec) -> tuple[int, int]:
    """The numbers of its files that a source begins and ends with. `numbers` are in order, at least one.

    Raises SourceError where none is left between those that the recipe gives.
    """
    first = numbers[0] if spec.first is None else spec.first
    last = numbers[-1] if spec.last is None else spec.last
    if first > last or not any(first <= number <= last for number in numbers):
        raise SourceError(
            f"has no file with a number from {first} to {last}",
            where="settings first, last",
            remedy=f"its files are numbered from {numbers[0]} to {numbers[-1]}",
        )
    return first, last


def range_of(numbers: Sequence[int], spec: TimedSpec) -> tuple[int, int]:
    """The frames at which a source begins and ends. Raises SourceError as `ends_of`."""
    first, last = ends_of(numbers, spec)
    return first + spec.offset, last + spec.offset


def choose(numbers: Sequence[int], spec: TimedSpec, frame: int) -> Choice:
    """Which of a source's files stands at a frame. Raises SourceError where the recipe wants an error there."""
    first, last = ends_of(numbers, spec)
    inside = [number for number in numbers if first <= number <= last]
    wanted = frame - spec.offset
    if not first <= wanted <= last:
        beyond, what, end = (spec.before, "before", first) if wanted < first else (spec.after, "after", last)
        if beyond == "error":
            raise SourceError(
                f"there is nothing at frame {frame}, which is {what} its range",
                remedy=f"it goes from {first + spec.offset} to {last + spec.offset}; or choose what stands {what} it",
            )
        if beyond == "black":
            return Choice(_earlier(inside, end), black=True)
        if beyond == "hold":
            near = _earlier(inside, end)
            return Choice(
                near, told=f"{what} its range, frames {first + spec.offset} to {last + spec.offset}, {near} is held"
            )
        wanted = first + (wanted - first) % (last - first + 1)
    near = _earlier(inside, wanted)
    if near == wanted:
        return Choice(near)
    if spec.missing == "error":
        raise SourceError(
            f"number {wanted} is missing", remedy="add its file, or choose what stands for missing numbers"
        )
    black = spec.missing == "black"
    return Choice(near, black, f"number {wanted} is not there; {'black' if black else near} stands for it")


def _earlier(numbers: Sequence[int], wanted: int) -> int:
    """The largest number that is not above the one wanted; the first where there is none."""
    return numbers[max(bisect_right(numbers, wanted) - 1, 0)]


def runs(numbers: Sequence[int]) -> list[tuple[int, int]]:
    """Numbers in order as ranges of those that follow each other: first and last of each."""
    between = gaps(numbers)
    starts = [*numbers[:1], *(last + 1 for _, last in between)]
    ends = [*(first - 1 for first, _ in between), *numbers[-1:]]
    return list(zip(starts, ends, strict=True))


def gaps(numbers: Sequence[int]) -> list[tuple[int, int]]:
    """The numbers that are missing between the first and the last, as ranges: first and last of each."""
    return [(here + 1, there - 1) for here, there in itertools.pairwise(numbers) if there > here + 1]
