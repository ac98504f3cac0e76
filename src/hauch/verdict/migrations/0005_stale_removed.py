"""The mark that two processes could overwrite is gone."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("verdict", "0004_changes_carried_over")]

    operations = [migrations.RemoveField("standing", "stale")]
