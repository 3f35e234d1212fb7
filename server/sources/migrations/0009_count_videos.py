"""Frames of videos are counted anew: of a varying rate each stands at the number of its own time since."""

from typing import Any

from django.db import migrations


def count_anew(apps: Any, schema_editor: Any) -> None:
    videos = apps.get_model("sources", "Source").objects.filter(numbered=True).exclude(original="")
    apps.get_model("sources", "SourceFrame").objects.filter(source__in=videos).delete()
    # The server takes up what waits when it starts.
    videos.update(state="waiting", problem={})


class Migration(migrations.Migration):

    dependencies = [
        ("sources", "0008_versions"),
    ]

    operations = [migrations.RunPython(count_anew, migrations.RunPython.noop)]
