"""Wishes of live recordings say what kind they are."""

from django.db import migrations


def by_kind(old):
    """One wish as it was kept before, with its number and time."""
    if "wish" in old:
        return old
    if "mounted" in old:
        wish = {"type": "mounted", "part": old["mounted"]}
    elif "wave" in old:
        wish = {"type": "wave", "seconds": old["wave"]}
    elif old.get("cut"):
        wish = {"type": "cut"}
    elif (task := old.get("task")) and task["kind"] == "sweep":
        wish = {"type": "sweep", "levels": task["levels"], "dwell": task["dwell"]}
    elif task:
        wish = {"type": "hold", "channel": task["channel"], "target": task["target"], "tolerance": task["tolerance"]}
    else:
        wish = {"type": "throttle", "percent": old["throttle"]}
    return {"n": old["n"], "at": old["at"], "wish": wish}


def rewrite(apps, schema_editor):
    """All of them: a recording that goes on is taken up again with its wishes."""
    Live = apps.get_model("bench", "Live")
    for live in Live.objects.exclude(wanted={}).iterator():
        live.wanted = {"wishes": [by_kind(wish) for wish in live.wanted.get("wishes", [])]}
        live.save(update_fields=["wanted"])


class Migration(migrations.Migration):
    dependencies = [("bench", "0013_imports_by_the_worker")]

    operations = [migrations.RunPython(rewrite, migrations.RunPython.noop)]
