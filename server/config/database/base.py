"""The connection of a thread to the database; Django finds it by this module's name (`settings.DATABASES`)."""

import time
from typing import Any

from django.db.backends.mysql.base import CursorWrapper
from django.db.backends.mysql.base import DatabaseWrapper as MySQLWrapper

from config.database import writes

TRUSTED_SECONDS = 1.0
"""How long a connection that answered is taken to be there: it takes the database longer to be started again."""


class Cursor(CursorWrapper):
    """Notes what may have changed something."""

    def __init__(self, cursor: Any, wrote: Any) -> None:
        super().__init__(cursor)
        self._wrote = wrote

    def execute(self, query: Any, args: Any = None) -> Any:
        try:
            return super().execute(query, args)
        finally:
            # Also what failed: it may be there all the same, and only the answer was lost.
            if not query.lstrip()[:6].upper().startswith("SELECT"):
                self._wrote()

    def executemany(self, query: Any, args: Any) -> Any:
        try:
            return super().executemany(query, args)
        finally:
            self._wrote()


class DatabaseWrapper(MySQLWrapper):
    """Notes what is written once others can find it (`writes`).

    Asks at the beginning of a request whether the connection is usable only if nobody asked just now.

    Django asks each time, which is one question in four of those that a drag has. After an error it is asked always:
    a connection that was lost is not kept for the rest of the second.
    """

    _answered = float("-inf")
    _written = False
    """Whether something was written that is not committed yet."""

    def create_cursor(self, name: Any = None) -> Cursor:
        return Cursor(super().create_cursor(name).cursor, self._wrote)

    def _wrote(self) -> None:
        self._written = self.in_atomic_block
        writes.note()

    def _commit(self) -> None:
        try:
            super()._commit()  # type: ignore[misc]  # The types leave it out.
        finally:
            if self._written:
                self._written = False
                writes.note()

    def is_usable(self) -> bool:
        now = time.monotonic()
        if not self.errors_occurred and now - self._answered < TRUSTED_SECONDS:
            return True
        usable = bool(super().is_usable())
        self._answered = now if usable else float("-inf")
        return usable

    def close(self) -> None:
        self._answered = float("-inf")
        super().close()
