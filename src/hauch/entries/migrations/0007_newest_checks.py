"""Each part had one check: it is the newest."""

from django.db import migrations, models


def point(apps, schema_editor):
    checks = apps.get_model("entries", "PartCheck").objects
    own = checks.filter(file=models.OuterRef("pk")).values("pk")[:1]
    apps.get_model("entries", "PartFile").objects.update(newest_check=models.Subquery(own))


class Migration(migrations.Migration):
    dependencies = [("entries", "0006_checks_stay")]

    operations = [migrations.RunPython(point, migrations.RunPython.noop)]
