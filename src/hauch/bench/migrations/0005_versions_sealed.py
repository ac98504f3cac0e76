"""Versions that have been on the bench are sealed from their first run on."""

from django.db import migrations
from django.db.models import Min


def fill(apps, schema_editor):
    Run, Version = apps.get_model("bench", "Run"), apps.get_model("entries", "Version")
    first = Run.objects.filter(specimen__isnull=False).values_list("specimen__version").annotate(at=Min("started_at"))
    for version, at in first:
        Version.objects.filter(pk=version, sealed_at=None).update(sealed_at=at)


class Migration(migrations.Migration):
    dependencies = [("bench", "0004_rig_of_a_run_filled"), ("entries", "0003_predictions_and_files"), ("workshop", "0001_initial")]

    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
