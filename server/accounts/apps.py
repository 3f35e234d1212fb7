"""The app of accounts."""

from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "accounts"

    def ready(self) -> None:
        # It listens to sign-ins from now on.
        from accounts import places  # noqa: F401
