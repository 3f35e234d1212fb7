"""The app of shots' recipes and their history."""

from django.apps import AppConfig


class RecipesConfig(AppConfig):
    name = "recipes"

    def ready(self) -> None:
        from jobs import chores
        from recipes.tidying import clear_deleted

        chores.register(clear_deleted)
