"""A standing counts the changes that it does not show yet, instead of a mark that two processes could overwrite."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("verdict", "0002_schemes")]

    operations = [
        migrations.AddField("standing", "changes", models.PositiveBigIntegerField(default=0)),
        migrations.AddField("standing", "changed_at", models.DateTimeField(help_text="when it turned stale", null=True)),
        migrations.AddField(
            "standing",
            "judged",
            models.BigIntegerField(default=-1, help_text="how many of the changes its rows show; -1 before it was ever computed"),
        ),
        migrations.AddField(
            "standing",
            "failure",
            models.CharField(blank=True, help_text="what went wrong when it was last computed", max_length=300),
        ),
        migrations.AddField(
            "standingrow",
            "version",
            models.PositiveSmallIntegerField(help_text="number of the version that takes part; empty while none was run", null=True),
        ),
    ]
