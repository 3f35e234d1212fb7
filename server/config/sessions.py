"""Sessions in the database, found by a query that is written out: see `projects.access.seen_shot`."""

from django.contrib.sessions.backends.db import SessionStore as DatabaseStore
from django.contrib.sessions.models import Session

_FOUND = "SELECT * FROM django_session WHERE session_key = %s AND expire_date > UTC_TIMESTAMP(6)"


class SessionStore(DatabaseStore):
    def _get_session_from_db(self) -> Session | None:
        found = list(Session.objects.raw(_FOUND, [self.session_key]))
        if found:
            return found[0]
        self._session_key = None
        return None
