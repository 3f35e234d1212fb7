"""Renders that take over what would come out the same as in an earlier one."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ("deliveries", "0007_warnings"),
    ]

    operations = [
        migrations.AddField(
            model_name="render",
            name="after",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="deliveries.render"
            ),
        ),
    ]
