from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0002_initial")]

    operations = [migrations.AddField(model_name="shot", name="marks", field=models.JSONField(default=list))]
