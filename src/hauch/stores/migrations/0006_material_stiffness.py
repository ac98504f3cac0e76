"""Materials say how stiff they are; those that every installation begins with by their data sheets."""

from django.db import migrations, models

TYPICAL = {"pla": 3.0e9, "petg": 2.1e9, "abs": 2.0e9, "pa": 2.0e9, "pa_cf": 5.5e9, "resin": 1.8e9}


def fill(apps, schema_editor):
    material = apps.get_model("stores", "Material")
    for key, stiffness in TYPICAL.items():
        material.objects.filter(key=key).update(stiffness=stiffness)


class Migration(migrations.Migration):
    dependencies = [("stores", "0005_choices_by_name")]

    operations = [
        migrations.AddField("material", "stiffness", models.FloatField(default=2.0e9, help_text="Young's modulus, Pa")),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.RemoveConstraint("material", "material_sane"),
        migrations.AddConstraint(
            "material",
            models.CheckConstraint(
                condition=models.Q(density__gte=100, density__lte=23_000, along__gt=0, across__gt=0, stiffness__gt=0, price__gte=0),
                name="material_sane",
                violation_error_message="Density lies between 100 and 23,000 kg/m3, strengths and stiffness are above 0, a price is not negative.",
            ),
        ),
    ]
