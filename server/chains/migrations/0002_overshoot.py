from collections.abc import Iterable
from typing import Any

from django.db import migrations

RESAMPLING = {"place", "resize", "fit_to", "pack"}


def keep_pixels(steps: Iterable[dict[str, Any]]) -> bool:
    """Have steps that resample go beyond the pixels that they are made of, as they did until now; whether there are."""
    found = [step for step in steps if step.get("op") in RESAMPLING and "overshoot" not in step.get("set", {})]
    for step in found:
        step.setdefault("set", {})["overshoot"] = True
    return bool(found)


def keep_all(apps: Any, schema_editor: Any) -> None:
    for revision in apps.get_model("recipes", "Revision").objects.only("recipe").iterator(200):
        if keep_pixels(revision.recipe.get("steps", [])):
            revision.save(update_fields=["recipe"])
    for chain in apps.get_model("chains", "Chain").objects.only("steps").iterator(200):
        if keep_pixels(chain.steps):
            chain.save(update_fields=["steps"])


class Migration(migrations.Migration):
    """The default of `overshoot` is false from now on: what was made before keeps its pixels."""

    dependencies = [("chains", "0001_chains"), ("recipes", "0002_seen")]

    operations = [migrations.RunPython(keep_all, migrations.RunPython.noop)]
