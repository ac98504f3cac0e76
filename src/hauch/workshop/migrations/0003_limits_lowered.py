"""Speed limits of specimens were too high: they are lowered, and rotors that were ready for a bench pass the safety gate anew."""

import math

from django.db import migrations
from django.utils import timezone

TIP_LIMIT = 30.0
BENT = 13.0
LEFT = (
    "Left the bench: its speed limit was too high, since bending of its blades by their own pull was not counted. It passes the safety gate anew, where "
    "its tips are held at 30 m/s at most."
)


def lower(apps, schema_editor):
    check_of = apps.get_model("entries", "PartCheck").objects.filter(state="done")
    specimens = apps.get_model("workshop", "Specimen").objects.filter(version__entry__round__part="rotor")
    for specimen in specimens.exclude(cap=None, state__in=("planned", "printing", "printed", "oven", "glued", "broken")).select_related("version__entry__round"):
        if specimen.cap is not None:
            figures = [{f["key"]: f["quantity"]["value"] for f in check.figures} for check in check_of.filter(file__version=specimen.version_id)]
            tips = [values["outer"] / 2 for values in figures if values.get("outer")]
            of_tips = min((TIP_LIMIT / tip * 60 / (2 * math.pi) for tip in tips), default=specimen.cap)
            specimen.cap = min(of_tips, specimen.cap / math.sqrt(BENT))
        unlimited = specimen.cap is None
        if specimen.state == "ready" and (unlimited or specimen.version.entry.round.state != "published"):
            specimen.state, specimen.since = "printed", timezone.now()
            specimen.note = f"{specimen.note}\n{LEFT}".strip()
        specimen.save(update_fields=["cap", "state", "since", "note"])


class Migration(migrations.Migration):
    dependencies = [("workshop", "0002_from_printer_to_bench"), ("entries", "0005_speed_limits_taken_out")]

    operations = [migrations.RunPython(lower, migrations.RunPython.noop)]
