"""Every run so far was made on its test's rig as it is."""

import django.db.models.deletion
from django.db import migrations, models


def fill(apps, schema_editor):
    """Give each run its test's rig, in one statement for each test."""
    Run = apps.get_model("bench", "Run")
    for test, rig in apps.get_model("rounds", "Test").objects.values_list("pk", "rig_id"):
        Run.objects.filter(test_id=test, rig__isnull=True).update(rig_id=rig)


class Migration(migrations.Migration):
    atomic = False
    dependencies = [("bench", "0003_rig_of_a_run")]

    operations = [
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AlterField(
            model_name="run",
            name="rig",
            field=models.ForeignKey(
                help_text="in the state in which it was", on_delete=django.db.models.deletion.PROTECT, related_name="runs", to="stores.rig"
            ),
        ),
    ]
