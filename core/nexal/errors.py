"""Every error that a user can meet: what is wrong, where, and what to do about it."""

from __future__ import annotations

import errno
from collections.abc import Iterable
from difflib import get_close_matches


class NexalError(Exception):
    """Base of all errors meant for the user.

    `where` names the file, step, setting or output as it stands in the recipe; `remedy` says what to do.
    """

    code = "error"

    def __init__(self, message: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.where = where
        self.remedy = remedy
        self.also: list[NexalError] = []
        """What else is wrong beside it."""

    def __str__(self) -> str:
        return "; ".join(part for part in (": ".join(p for p in (self.where, self.message) if p), self.remedy) if part)

    def with_others(self, others: Iterable[NexalError]) -> NexalError:
        """The same error, telling of others too: each once, however many results they stand in the way of."""
        for other in others:
            for each in (other, *other.also):
                if str(each) not in {str(known) for known in (self, *self.also)}:
                    self.also.append(each)
        return self

    def at(self, where: str) -> NexalError:
        """The same error (and what else is wrong), placed: used where the place is known only to the caller."""
        for other in self.also:
            other.at(where)
        if not self.where:
            self.where = where
        elif not self.where.startswith(where):
            self.where = f"{where}, {self.where}"
        return self


class RecipeError(NexalError):
    """A recipe that cannot be understood: unknown names, cycles, wrong kinds."""

    code = "recipe"


class SettingError(NexalError):
    """A setting outside of what its operation accepts."""

    code = "setting"


class AddressError(NexalError):
    """An address that leads nowhere."""

    code = "address"


class SourceError(NexalError):
    """A source that is missing or does not fit."""

    code = "source"


class FormatError(NexalError):
    """A file that cannot be read or written."""

    code = "format"


class DiskError(NexalError):
    """A disk that has no room: no fault of what was to be written."""

    code = "disk"

    def __init__(self, what: str, *, where: str = "", needed: int | None = None) -> None:
        much = f"; it needs {needed / 1e6:.0f} MB" if needed else ""
        remedy = "make room on the disk, or ask who looks after it"
        super().__init__(f"{what}: the disk is full{much}", where=where, remedy=remedy)


NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
"""What the system calls a disk without room."""


class Cancelled(NexalError):
    """Work that was given up because a newer request replaced it."""

    code = "cancelled"


class TooMuch(NexalError):
    """Work that would take more memory or time than is allowed for it."""

    code = "too_much"


class Pending(NexalError):
    """A result that takes long and is not there yet; `item` and `digest` tell which."""

    code = "pending"

    def __init__(self, item: str, digest: str) -> None:
        super().__init__("is still being computed", where=f"step '{item}'", remedy="wait for it, or stop it")
        self.item = item
        self.digest = digest


def nearest(name: str, known: Iterable[str], count: int = 3) -> str:
    """The known names most like `name`, as words for a remedy."""
    choices = list(known)
    lowered = {choice.lower(): choice for choice in choices}
    close = [lowered[match] for match in get_close_matches(name.lower(), lowered, n=count, cutoff=0.5)]
    shown = close or choices[:8]
    if not shown:
        return "there is none to choose from"
    return ("did you mean " if close else "there is ") + ", ".join(shown)


class RenderError(NexalError):
    """Frames that can't be made here or there."""

    code = "render"
