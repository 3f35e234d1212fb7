"""Timecodes: hours, minutes, seconds and frames of a day, with numbers left out where they drop frames.

SMPTE ST 12-1: of 30000/1001 frames a second the first two numbers of each minute are left out but of every tenth, of
60000/1001 the first four, so that the count keeps up with the clock.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

_WORDS = re.compile(r"(\d{1,2}):(\d{2}):(\d{2})([:;.,])(\d{2,3})")
HOURS = 24


@dataclass(frozen=True)
class Timecode:
    """A place in a day, counted by whole frames a second."""

    hours: int
    minutes: int
    seconds: int
    frames: int
    drops: bool = False

    def __str__(self) -> str:
        link = ";" if self.drops else ":"
        return f"{self.hours:02}:{self.minutes:02}:{self.seconds:02}{link}{self.frames:02}"

    def after(self, frames: int, rate: Fraction) -> Timecode:
        """The timecode so many frames later, at a rate of frames a second; a day later it begins again."""
        a_second = max(1, round(rate))
        # Of rates that are no multiple of 30 nothing is dropped.
        dropped = a_second // 15 if self.drops and a_second % 30 == 0 else 0
        minutes = 60 * self.hours + self.minutes
        count = (60 * minutes + self.seconds) * a_second + self.frames - dropped * (minutes - minutes // 10)
        ten_minutes = 600 * a_second - 9 * dropped
        count = (count + frames) % (6 * HOURS * ten_minutes)
        tens, rest = divmod(count, ten_minutes)
        # The first minute of ten is whole, the nine others have fewer.
        later = 0 if rest < 60 * a_second else 1 + (rest - 60 * a_second) // (60 * a_second - dropped)
        numbered = count + dropped * (9 * tens + later)
        seconds, frame = divmod(numbered, a_second)
        return Timecode(seconds // 3600 % HOURS, seconds // 60 % 60, seconds % 60, frame, self.drops)


def timecode_in(text: str | None) -> Timecode | None:
    """The timecode that a text is, such as `01:00:00:00`, with `;` before its frames where it drops some; else None."""
    found = _WORDS.fullmatch((text or "").strip())
    if not found:
        return None
    hours, minutes, seconds, frames = (int(found[part]) for part in (1, 2, 3, 5))
    if hours >= HOURS or minutes >= 60 or seconds >= 60:
        return None
    return Timecode(hours, minutes, seconds, frames, found[4] in ";,")
