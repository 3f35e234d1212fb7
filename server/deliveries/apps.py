"""The app of deliverables and renders."""

from django.apps import AppConfig


class DeliveriesConfig(AppConfig):
    name = "deliveries"

    def ready(self) -> None:
        from deliveries.services import give_up, run, unfinished
        from jobs.services import Kind, register

        register("render", Kind(run, give_up, unfinished))
