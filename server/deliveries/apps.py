"""The app of deliverables and renders."""

from django.apps import AppConfig


class DeliveriesConfig(AppConfig):
    name = "deliveries"

    def ready(self) -> None:
        from deliveries import movies
        from deliveries.services import clear_leftovers, give_up, run, unfinished
        from jobs import chores
        from jobs.services import Kind, register

        register("render", Kind(run, give_up, unfinished))
        register("movie", Kind(movies.make, movies.give_up, movies.unfinished))
        chores.register(clear_leftovers)
