"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid

import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    replaces = [
        ("workshop", "0001_initial"),
        ("workshop", "0002_from_printer_to_bench"),
        ("workshop", "0003_limits_lowered"),
    ]

    initial = True

    dependencies = [
        ("entries", "0001_squashed_0005_speed_limits_taken_out"),
        ("stores", "0001_squashed_0005_choices_by_name"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Specimen",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("code", models.CharField(max_length=20)),
                (
                    "material",
                    models.CharField(
                        blank=True, help_text="as written on the spool", max_length=40
                    ),
                ),
                ("mass", models.FloatField(blank=True, help_text="kg", null=True)),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("planned", "to be printed"),
                            ("printing", "on the printer"),
                            ("printed", "printed"),
                            ("oven", "in the oven"),
                            ("glued", "glue sets"),
                            ("ready", "ready for the bench"),
                            ("broken", "broken"),
                        ],
                        default="printed",
                        max_length=10,
                    ),
                ),
                (
                    "since",
                    models.DateTimeField(
                        default=django.utils.timezone.now, help_text="when it came into its state"
                    ),
                ),
                (
                    "due",
                    models.DateField(blank=True, help_text="when it should be ready", null=True),
                ),
                ("note", models.TextField(blank=True)),
                ("layer", models.FloatField(default=0.0002, help_text="m")),
                ("line", models.FloatField(default=0.00045, help_text="m")),
                ("walls", models.PositiveSmallIntegerField(default=3)),
                ("infill", models.FloatField(default=0.25, help_text="share")),
                (
                    "cap",
                    models.FloatField(
                        blank=True,
                        help_text="not to be spun above, 1/min; from the safety gate",
                        null=True,
                    ),
                ),
                (
                    "printed_in",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="specimens",
                        to="stores.material",
                    ),
                ),
                (
                    "version",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="specimens",
                        to="entries.version",
                    ),
                ),
            ],
            options={
                "ordering": ["code", "id"],
                "indexes": [
                    models.Index(fields=["state", "since"], name="workshop_sp_state_5ffea8_idx")
                ],
                "constraints": [
                    models.UniqueConstraint(fields=("version", "code"), name="specimen_code_once"),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("mass__isnull", True),
                            models.Q(("mass__gt", 0), ("mass__lt", 100)),
                            _connector="OR",
                        ),
                        name="specimen_mass_sane",
                        violation_error_message="The mass must be above 0 g and below 100 kg.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("infill__gte", 0),
                            ("infill__lte", 1),
                            ("layer__gt", 0),
                            ("layer__lt", 0.002),
                            ("line__gt", 0),
                            ("line__lt", 0.005),
                            ("walls__gte", 1),
                        ),
                        name="specimen_settings_sane",
                        violation_error_message="Layers are 0.02 to 1 mm high, lines 0.1 to 2 mm wide, infill 0 to 100 %, walls 1 or more.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("cap__isnull", True), ("cap__gt", 0), _connector="OR"),
                        name="specimen_cap_sane",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="PrintRun",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("machine", models.CharField(max_length=60)),
                ("hours", models.FloatField(blank=True, null=True)),
                ("failed", models.BooleanField(default=False)),
                ("note", models.CharField(blank=True, max_length=300)),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="prints",
                        to="workshop.specimen",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("hours__isnull", True),
                            models.Q(("hours__gt", 0), ("hours__lt", 2000)),
                            _connector="OR",
                        ),
                        name="print_hours_sane",
                        violation_error_message="A print takes more than 0 and less than 2,000 hours.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Measure",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "kind",
                    models.CharField(
                        choices=[
                            ("bore", "bore"),
                            ("tip_gap", "tip gap"),
                            ("slot", "slot width"),
                            ("wall", "wall"),
                            ("outer", "outer diameter"),
                            ("depth", "depth"),
                        ],
                        max_length=8,
                    ),
                ),
                ("place", models.PositiveSmallIntegerField(default=1)),
                ("value", models.FloatField(help_text="m")),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="measures",
                        to="workshop.specimen",
                    ),
                ),
            ],
            options={
                "ordering": ["kind", "place", "-at", "-id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("place__gte", 1),
                            ("place__lte", 8),
                            ("value__gte", 0),
                            ("value__lt", 5),
                        ),
                        name="measure_sane",
                        violation_error_message="A size lies between 0 and 5 m, a place between 1 and 8.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Gate",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("power", models.CharField(max_length=20)),
                (
                    "cautions",
                    models.JSONField(help_text="key and sentence of each that was confirmed"),
                ),
                ("cap", models.FloatField(blank=True, help_text="1/min", null=True)),
                (
                    "working",
                    models.CharField(
                        blank=True, help_text="where the cap comes from", max_length=300
                    ),
                ),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="gates",
                        to="workshop.specimen",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
            },
        ),
        migrations.CreateModel(
            name="Balance",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("speed", models.FloatField(help_text="1/min")),
                ("first", models.FloatField(help_text="reading as it is, any unit")),
                ("first_angle", models.FloatField(help_text="rad")),
                ("trial", models.FloatField(help_text="trial mass, kg")),
                ("trial_radius", models.FloatField(help_text="m")),
                ("trial_angle", models.FloatField(help_text="rad")),
                ("second", models.FloatField(help_text="reading with the trial mass")),
                ("second_angle", models.FloatField(help_text="rad")),
                (
                    "residual",
                    models.FloatField(
                        blank=True, help_text="reading after the correction", null=True
                    ),
                ),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="balances",
                        to="workshop.specimen",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("first__gte", 0),
                            ("second__gte", 0),
                            ("speed__gt", 0),
                            ("trial__gt", 0),
                            ("trial_radius__gt", 0),
                        ),
                        name="balance_sane",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="WorkStep",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("order", models.PositiveSmallIntegerField(default=0)),
                (
                    "kind",
                    models.CharField(
                        choices=[
                            ("supports", "supports off"),
                            ("sand", "sand"),
                            ("glue", "glue"),
                            ("gasket", "gasket at a joint"),
                            ("insert", "threaded inserts"),
                            ("anneal", "anneal"),
                            ("assemble", "assemble"),
                            ("other", "other"),
                        ],
                        default="other",
                        max_length=10,
                    ),
                ),
                ("text", models.CharField(max_length=300)),
                ("done_at", models.DateTimeField(blank=True, null=True)),
                (
                    "done_by",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="steps",
                        to="workshop.specimen",
                    ),
                ),
            ],
            options={
                "ordering": ["order", "id"],
            },
        ),
    ]
