"""All standings are judged anew: their intervals are told with the degrees of freedom from now on.
What was published stays as it was; a publication keeps plain values.
"""

from django.db import migrations, models
from django.utils import timezone


def turn_stale(apps, schema_editor):
    apps.get_model("verdict", "Standing").objects.update(
        changes=models.F("changes") + 1, changed_at=timezone.now()
    )


class Migration(migrations.Migration):
    dependencies = [("verdict", "0007_expanded")]

    operations = [migrations.RunPython(turn_stale, migrations.RunPython.noop)]
