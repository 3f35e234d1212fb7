"""The app of notes."""

from django.apps import AppConfig


class NotesConfig(AppConfig):
    name = "notes"

    def ready(self) -> None:
        # It says what of notes goes along with the names of items.
        from notes import services  # noqa: F401
