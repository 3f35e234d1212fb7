"""The app of projects, members and shots."""

from django.apps import AppConfig


class ProjectsConfig(AppConfig):
    name = "projects"

    def ready(self) -> None:
        from config import sessions
        from jobs import chores
        from projects.access import seen_beside
        from projects.news import clear

        chores.register(clear)
        sessions.beside = seen_beside
