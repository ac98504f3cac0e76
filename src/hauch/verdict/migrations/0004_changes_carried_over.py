"""What was stale stays so; standings of rounds that are not published are judged anew, since entries are judged by one version from now on."""

from django.db import migrations, models


def carry_over(apps, schema_editor):
    standing = apps.get_model("verdict", "Standing")
    standing.objects.update(changes=1, judged=0)  # entries are judged by one version from now on
    standing.objects.filter(stale=False, rules__round__state="published").update(judged=1)


def back(apps, schema_editor):
    standing = apps.get_model("verdict", "Standing")
    standing.objects.filter(judged__gte=models.F("changes")).update(stale=False)


class Migration(migrations.Migration):
    dependencies = [("verdict", "0003_changes_counted")]

    operations = [migrations.RunPython(carry_over, back)]
