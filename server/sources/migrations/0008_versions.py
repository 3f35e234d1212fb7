"""Versions of a source: all frames that are there are of its first."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ("sources", "0007_used_names"),
    ]

    operations = [
        migrations.AlterModelOptions(name="sourceframe", options={"ordering": ["number", "version"]}),
        migrations.AddField(model_name="source", name="version", field=models.PositiveIntegerField(default=1)),
        migrations.AddField(model_name="sourceframe", name="version", field=models.PositiveIntegerField(default=1)),
        # The new index stands before the old one goes: the foreign key needs one of them.
        migrations.AddConstraint(
            model_name="sourceframe",
            constraint=models.UniqueConstraint(fields=("source", "number", "version"), name="frame_versions_differ"),
        ),
        migrations.RemoveConstraint(model_name="sourceframe", name="frame_numbers_differ"),
    ]
