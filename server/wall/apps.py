"""The app of shots kept in order."""

from django.apps import AppConfig


class WallConfig(AppConfig):
    name = "wall"

    def ready(self) -> None:
        from jobs import chores
        from wall.tidying import clear_deleted

        chores.register(clear_deleted)
