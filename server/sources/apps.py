"""The app of imported files."""

from django.apps import AppConfig


class SourcesConfig(AppConfig):
    name = "sources"

    def ready(self) -> None:
        from jobs import chores
        from jobs.services import Kind, register
        from sources.services import clear_leftovers, give_up, unfinished, unpack

        register("unpack", Kind(unpack, give_up, unfinished))
        chores.register(clear_leftovers)
