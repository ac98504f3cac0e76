"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid

import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models

import hauch.desk.models


class Migration(migrations.Migration):
    replaces = [
        ("desk", "0001_initial"),
        ("desk", "0002_choices_by_name"),
    ]

    initial = True

    dependencies = [
        ("rounds", "0001_squashed_0006_choices_by_name"),
        ("stores", "0001_squashed_0005_choices_by_name"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Design",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("tool", models.CharField(choices=hauch.desk.models.tool_choices, max_length=20)),
                ("name", models.CharField(max_length=60)),
                ("inputs", models.JSONField(default=dict)),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("changed_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "fit",
                    models.ForeignKey(
                        blank=True,
                        help_text="round whose envelope it must fit",
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="rounds.round",
                    ),
                ),
                (
                    "load",
                    models.ForeignKey(
                        blank=True,
                        help_text="rotor that a power pack drives",
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="desk.design",
                    ),
                ),
                (
                    "owner",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="designs",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="stores.rig",
                    ),
                ),
            ],
            options={
                "ordering": ["tool", "-changed_at"],
                "indexes": [
                    models.Index(
                        fields=["owner", "tool", "-changed_at"],
                        name="desk_design_owner_i_ad48a5_idx",
                    )
                ],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("owner", "tool", "name"),
                        name="design_name_once",
                        violation_error_message="You have a design of this name already.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="MeasuredBack",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("tool", models.CharField(choices=hauch.desk.models.tool_choices, max_length=20)),
                ("figure", models.CharField(max_length=30)),
                ("design_name", models.CharField(max_length=60)),
                ("predicted", models.FloatField()),
                ("measured", models.FloatField()),
                ("u_measured", models.FloatField(default=0.0)),
                ("sent_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("withdrawn", models.BooleanField(default=False)),
                (
                    "rig",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="measured_back",
                        to="stores.rig",
                    ),
                ),
                (
                    "sent_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
            options={
                "ordering": ["sent_at"],
                "indexes": [
                    models.Index(
                        fields=["tool", "rig", "figure"], name="desk_measur_tool_21c446_idx"
                    )
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("measured__gt", 0), ("predicted__gt", 0), ("u_measured__gte", 0)
                        ),
                        name="measured_back_above_0",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Search",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("inputs", models.JSONField()),
                ("aim", models.CharField(max_length=20)),
                ("limits", models.JSONField(default=dict, help_text="figure key -> most, SI")),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("waiting", "waiting for the worker"),
                            ("running", "running"),
                            ("done", "done"),
                            ("cancelled", "stopped"),
                            ("failed", "failed"),
                        ],
                        default="waiting",
                        max_length=10,
                    ),
                ),
                ("cancel", models.BooleanField(default=False)),
                ("progress", models.FloatField(default=0.0)),
                (
                    "best",
                    models.JSONField(
                        blank=True, default=dict, help_text="inputs and figures of the best so far"
                    ),
                ),
                (
                    "front",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="inputs and both aims of the trade-off front",
                    ),
                ),
                ("tried", models.PositiveIntegerField(default=0)),
                ("reason", models.TextField(blank=True)),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "fit",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="rounds.round",
                    ),
                ),
                (
                    "owner",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="searches",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="stores.rig",
                    ),
                ),
            ],
            options={
                "ordering": ["-created_at"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(("progress__gte", 0), ("progress__lte", 1)),
                        name="search_progress_share",
                    )
                ],
            },
        ),
    ]
