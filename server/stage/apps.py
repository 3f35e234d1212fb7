"""The app of what is seen on the stage."""

from django.apps import AppConfig


class StageConfig(AppConfig):
    name = "stage"

    def ready(self) -> None:
        from jobs.services import Kind, register
        from stage.slow import give_up, unfinished, work

        register("slow", Kind(work, give_up, unfinished, lane="slow"))
