"""The connection of a thread to the database; Django finds it by this module's name (`settings.DATABASES`)."""

import time

from django.db.backends.mysql.base import DatabaseWrapper as MySQLWrapper

TRUSTED_SECONDS = 1.0
"""How long a connection that answered is taken to be there: it takes the database longer to be started again."""


class DatabaseWrapper(MySQLWrapper):
    """Asks at the beginning of a request whether the connection is usable only if nobody asked just now.

    Django asks each time, which is one question in four of those that a drag has. After an error it is asked always:
    a connection that was lost is not kept for the rest of the second.
    """

    _answered = float("-inf")

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
