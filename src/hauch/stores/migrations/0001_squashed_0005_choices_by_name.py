"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid

import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models

import hauch.stores.models


class Migration(migrations.Migration):
    replaces = [
        ("stores", "0001_initial"),
        ("stores", "0002_rigs_and_calibrations"),
        ("stores", "0003_materials"),
        ("stores", "0004_meters_over_a_line"),
        ("stores", "0005_choices_by_name"),
    ]

    initial = True

    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="ReferenceType",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("name", models.CharField(max_length=80, unique=True)),
                ("description", models.TextField(blank=True)),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="Instrument",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                (
                    "name",
                    models.CharField(
                        error_messages={"unique": "There is a meter of this name already."},
                        max_length=80,
                        unique=True,
                    ),
                ),
                (
                    "channel",
                    models.CharField(choices=hauch.stores.models.channel_choices, max_length=30),
                ),
                ("serial", models.CharField(blank=True, max_length=40)),
                ("resolution", models.FloatField(default=0)),
                ("accuracy", models.FloatField(default=0)),
                ("accuracy_share", models.FloatField(default=0)),
                ("low", models.FloatField(blank=True, null=True)),
                ("high", models.FloatField(blank=True, null=True)),
                (
                    "response_time",
                    models.FloatField(blank=True, help_text="time constant, s", null=True),
                ),
                (
                    "principle",
                    models.CharField(
                        blank=True,
                        choices=[
                            ("vane", "vane"),
                            ("hot_wire", "hot wire (reads less in thin air)"),
                        ],
                        max_length=20,
                    ),
                ),
                (
                    "recalibrate_after",
                    models.PositiveIntegerField(blank=True, help_text="days", null=True),
                ),
                ("retired", models.BooleanField(default=False)),
                (
                    "resource",
                    models.CharField(
                        blank=True,
                        help_text="VISA resource name, where it is read over a line",
                        max_length=120,
                    ),
                ),
                (
                    "profile",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="reading profile: what is sent, and what comes back",
                    ),
                ),
            ],
            options={
                "ordering": ["name"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("resolution__gte", 0),
                            ("accuracy__gte", 0),
                            ("accuracy_share__gte", 0),
                            ("accuracy_share__lt", 1),
                        ),
                        name="instrument_specification_sane",
                        violation_error_message="Resolution and limits must be 0 or more, the limit as a share below 1.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("low__isnull", True),
                            ("high__isnull", True),
                            ("low__lt", models.F("high")),
                            _connector="OR",
                        ),
                        name="instrument_range_sane",
                        violation_error_message="The range ends before it begins.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("response_time__isnull", True),
                            ("response_time__gte", 0),
                            _connector="OR",
                        ),
                        name="instrument_response_sane",
                        violation_error_message="The response time must be 0 or more.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Material",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("key", models.SlugField(max_length=20, unique=True)),
                ("label", models.CharField(max_length=60, unique=True)),
                ("density", models.FloatField(help_text="kg/m3")),
                ("along", models.FloatField(help_text="tensile strength along the layers, Pa")),
                ("across", models.FloatField(help_text="tensile strength across the layers, Pa")),
                ("heat", models.FloatField(help_text="heat that it stands, degC")),
                (
                    "anneal",
                    models.FloatField(
                        blank=True,
                        help_text="temperature at which it is annealed, degC; empty where it is not",
                        null=True,
                    ),
                ),
                (
                    "shrinks",
                    models.FloatField(
                        default=0.0,
                        help_text="how much shorter it becomes along the layers by annealing, share",
                    ),
                ),
                (
                    "grows",
                    models.FloatField(
                        default=0.0, help_text="how much taller it becomes across the layers, share"
                    ),
                ),
                ("price", models.FloatField(default=25.0, help_text="of a kilogram")),
                ("cautions", models.TextField(blank=True)),
                ("retired", models.BooleanField(default=False)),
            ],
            options={
                "ordering": ["label"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("across__gt", 0),
                            ("along__gt", 0),
                            ("density__gte", 100),
                            ("density__lte", 23000),
                            ("price__gte", 0),
                        ),
                        name="material_sane",
                        violation_error_message="Density lies between 100 and 23,000 kg/m3, strengths are above 0, a price is not negative.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("grows__gte", 0),
                            ("grows__lt", 0.2),
                            ("shrinks__gte", 0),
                            ("shrinks__lt", 0.2),
                        ),
                        name="material_shrinks_little",
                        violation_error_message="Annealing changes a size by less than 20 %.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Picture",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("sha256", models.CharField(max_length=64, unique=True)),
                ("path", models.CharField(max_length=200)),
                ("width", models.PositiveIntegerField()),
                ("height", models.PositiveIntegerField()),
                ("added_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "added_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Rig",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("name", models.CharField(max_length=80)),
                ("kind", models.CharField(choices=hauch.stores.models.rig_choices, max_length=20)),
                ("state", models.PositiveSmallIntegerField(default=1)),
                ("since", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "change",
                    models.TextField(
                        blank=True, help_text="what is different from the state before"
                    ),
                ),
                (
                    "constants",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="name -> [value, standard uncertainty], SI",
                    ),
                ),
                ("note", models.TextField(blank=True)),
                (
                    "previous",
                    models.OneToOneField(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="next",
                        to="stores.rig",
                    ),
                ),
            ],
            options={
                "ordering": ["name", "-state"],
            },
        ),
        migrations.CreateModel(
            name="RigCalibration",
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
                            ("traverse", "traverse of the tube"),
                            ("blank_plate", "blank plate"),
                        ],
                        max_length=12,
                    ),
                ),
                ("readings", models.JSONField(help_text="as the core took them, SI")),
                ("found", models.JSONField(help_text="constant -> [value, standard uncertainty]")),
                ("text", models.TextField()),
                ("note", models.TextField(blank=True)),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="calibrations",
                        to="stores.rig",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
            },
        ),
        migrations.CreateModel(
            name="RigMeter",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "channel",
                    models.CharField(choices=hauch.stores.models.channel_choices, max_length=30),
                ),
                (
                    "instrument",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to="stores.instrument",
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="meters",
                        to="stores.rig",
                    ),
                ),
            ],
            options={
                "ordering": ["rig", "channel"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("rig", "channel"), name="one_meter_for_a_channel"
                    )
                ],
            },
        ),
        migrations.AddField(
            model_name="rig",
            name="instruments",
            field=models.ManyToManyField(
                related_name="rigs", through="stores.RigMeter", to="stores.instrument"
            ),
        ),
        migrations.CreateModel(
            name="Calibration",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("at", models.DateField()),
                (
                    "standard",
                    models.CharField(
                        blank=True, help_text="what it was compared with", max_length=120
                    ),
                ),
                ("standard_u", models.FloatField(default=0)),
                (
                    "points",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="[[indicated, true]], SI; empty where only the line is known",
                    ),
                ),
                ("slope", models.FloatField(default=1)),
                ("offset", models.FloatField(default=0)),
                ("centre", models.FloatField(default=0)),
                ("slope_u", models.FloatField(default=0)),
                ("level_u", models.FloatField(default=0)),
                (
                    "dof",
                    models.PositiveIntegerField(
                        blank=True, help_text="empty for infinitely many", null=True
                    ),
                ),
                ("replaces_limit", models.BooleanField(default=False)),
                ("note", models.TextField(blank=True)),
                ("entered_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("withdrawn", models.TextField(blank=True, help_text="why it no longer counts")),
                (
                    "entered_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "instrument",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="calibrations",
                        to="stores.instrument",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("slope__gt", 0),
                            ("slope_u__gte", 0),
                            ("level_u__gte", 0),
                            ("standard_u__gte", 0),
                        ),
                        name="calibration_sane",
                        violation_error_message="The slope must be above 0, doubts 0 or more.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="ReferenceSpecimen",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("serial", models.CharField(max_length=40)),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("new", "new"),
                            ("in_use", "in use"),
                            ("retired", "retired"),
                            ("broken", "broken"),
                        ],
                        default="new",
                        max_length=10,
                    ),
                ),
                (
                    "hours",
                    models.FloatField(default=0, help_text="hours before its first run here"),
                ),
                ("note", models.TextField(blank=True)),
                (
                    "picture",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="stores.picture",
                    ),
                ),
                (
                    "type",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="specimens",
                        to="stores.referencetype",
                    ),
                ),
            ],
            options={
                "ordering": ["type", "serial"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("type", "serial"),
                        name="reference_serial_once",
                        violation_error_message="This serial exists already.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("hours__gte", 0)),
                        name="reference_hours_not_negative",
                        violation_error_message="Hours must be 0 or more.",
                    ),
                ],
            },
        ),
        migrations.AddConstraint(
            model_name="rig",
            constraint=models.UniqueConstraint(
                fields=("name", "state"),
                name="rig_state_once",
                violation_error_message="There is a rig of this name already.",
            ),
        ),
        migrations.AddConstraint(
            model_name="rig",
            constraint=models.CheckConstraint(
                condition=models.Q(("state__gte", 1)), name="rig_state_from_one"
            ),
        ),
    ]
