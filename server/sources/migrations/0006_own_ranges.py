"""Ranges that are not those of their shot's moving sources were set by people."""

from typing import Any

from django.db import migrations
from django.db.models import F, Max, Min


def mark_own(apps: Any, schema_editor: Any) -> None:
    shots = apps.get_model("projects", "Shot").objects.filter(last_frame__gt=F("first_frame"))
    sources = apps.get_model("sources", "Source").objects.filter(numbered=True)
    for shot in shots.select_related("head").iterator(200):
        specs = (shot.head.recipe if shot.head else {}).get("sources", {}).values()
        ends = {
            files: (first, last)
            for files, first, last in sources.filter(shot=shot)
            .annotate(first=Min("frames__number"), last=Max("frames__number"))
            .values_list("files", "first", "last")
            if first is not None
        }
        moving = [
            (spec.get("first", first) + spec.get("offset", 0), spec.get("last", last) + spec.get("offset", 0))
            for spec in specs
            if spec.get("files") in ends
            for first, last in [ends[spec["files"]]]
        ]
        found = (min(low for low, _ in moving), max(high for _, high in moving)) if moving else (1, 1)
        if found != (shot.first_frame, shot.last_frame):
            shot.own_range = True
            shot.save(update_fields=["own_range"])


class Migration(migrations.Migration):

    dependencies = [
        ("sources", "0005_manifests"),
        ("projects", "0009_own_range"),
        ("recipes", "0002_seen"),
    ]

    operations = [migrations.RunPython(mark_own, migrations.RunPython.noop)]
