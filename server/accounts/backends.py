"""Who a session belongs to, found by a query that is written out: see `projects.access.seen_shot`."""

from django.contrib.auth.backends import ModelBackend

from accounts.models import User

_FOUND = "SELECT * FROM accounts_user WHERE id = %s"


class Backend(ModelBackend):
    def get_user(self, user_id: int) -> User | None:
        found = list(User.objects.raw(_FOUND, [user_id]))
        return found[0] if found and self.user_can_authenticate(found[0]) else None
