"""Progress says which version of an entry its counts are of; they are counted anew in a transaction of its own."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("bench", "0007_waveforms"), ("entries", "0004_parts_checked"), ("workshop", "0002_from_printer_to_bench")]

    operations = [
        migrations.AddField(
            "progress",
            "version",
            models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.CASCADE, related_name="+", to="entries.version"),
        ),
    ]
