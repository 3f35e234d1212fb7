"""The app of projects, members and shots."""

from django.apps import AppConfig


class ProjectsConfig(AppConfig):
    name = "projects"

    def ready(self) -> None:
        from jobs import chores
        from projects.news import clear

        chores.register(clear)
