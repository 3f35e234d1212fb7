"""The app of imported files."""

from django.apps import AppConfig


class SourcesConfig(AppConfig):
    name = "sources"

    def ready(self) -> None:
        from jobs.services import Kind, register
        from sources.services import give_up, unfinished, unpack

        register("unpack", Kind(unpack, give_up, unfinished))
