from typing import Any

from django.db import migrations, models


def copy_specifications(apps: Any, schema_editor: Any) -> None:
    """Renders of before this column were made by what their deliverables say."""
    for render in apps.get_model("deliveries", "Render").objects.select_related("deliverable").iterator():
        render.spec = render.deliverable.spec
        render.save(update_fields=["spec"])


class Migration(migrations.Migration):
    dependencies = [("deliveries", "0002_initial")]

    operations = [
        migrations.AddField(model_name="render", name="spec", field=models.JSONField(default=dict)),
        migrations.RunPython(copy_specifications, migrations.RunPython.noop),
    ]
