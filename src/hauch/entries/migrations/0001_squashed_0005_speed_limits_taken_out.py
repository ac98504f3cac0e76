"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid
from decimal import Decimal

import django.db.models.deletion
import django.db.models.functions.text
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    replaces = [
        ("entries", "0001_initial"),
        ("entries", "0002_initial"),
        ("entries", "0003_predictions_and_files"),
        ("entries", "0004_parts_checked"),
        ("entries", "0005_speed_limits_taken_out"),
    ]

    initial = True

    dependencies = [
        ("rounds", "0001_squashed_0006_choices_by_name"),
        ("stores", "0001_squashed_0005_choices_by_name"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Entry",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("name", models.CharField(max_length=60)),
                ("designer_name", models.CharField(blank=True, max_length=60)),
                ("story", models.TextField(blank=True)),
                ("mark", models.PositiveIntegerField(default=0)),
                (
                    "state",
                    models.CharField(
                        choices=[("in", "in"), ("withdrawn", "withdrawn")],
                        default="in",
                        max_length=10,
                    ),
                ),
                ("submitted_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "designer",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="entries",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="entries",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "verbose_name_plural": "entries",
                "ordering": ["name", "id"],
                "indexes": [
                    models.Index(
                        fields=["round", "state", "name"], name="entries_ent_round_i_06c380_idx"
                    )
                ],
                "constraints": [
                    models.UniqueConstraint(
                        django.db.models.functions.text.Lower("name"),
                        models.F("round"),
                        name="entry_name_once_in_a_round",
                        violation_error_message="An entry of this name is in the round already.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="PartFile",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("name", models.CharField(max_length=120)),
                ("sha256", models.CharField(db_index=True, max_length=64)),
                ("size", models.PositiveIntegerField()),
                ("path", models.CharField(max_length=200)),
                ("added_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("place", models.CharField(blank=True, help_text="where it sits", max_length=60)),
                (
                    "count",
                    models.PositiveSmallIntegerField(
                        default=1, help_text="how many of it one entry needs"
                    ),
                ),
                (
                    "unit",
                    models.CharField(
                        blank=True,
                        choices=[
                            ("mm", "millimetres"),
                            ("inch", "inches"),
                            ("cm", "centimetres"),
                            ("m", "metres"),
                        ],
                        help_text="as its designer says",
                        max_length=6,
                    ),
                ),
                (
                    "axis",
                    models.CharField(
                        blank=True,
                        choices=[
                            ("z", "z"),
                            ("x", "x"),
                            ("y", "y"),
                            ("-z", "-z"),
                            ("-x", "-x"),
                            ("-y", "-y"),
                        ],
                        help_text="file axis along the flow, as its designer says",
                        max_length=2,
                    ),
                ),
                (
                    "added_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="PartCheck",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("waiting", "waits for the worker"),
                            ("running", "at work"),
                            ("done", "done"),
                            ("stopped", "stopped"),
                            ("failed", "failed"),
                        ],
                        default="waiting",
                        max_length=8,
                    ),
                ),
                ("stage", models.PositiveSmallIntegerField(default=0)),
                ("cancel", models.BooleanField(default=False)),
                ("attempts", models.PositiveSmallIntegerField(default=0)),
                (
                    "verdict",
                    models.CharField(
                        blank=True,
                        choices=[
                            ("ready", "ready to print"),
                            ("care", "print with care"),
                            ("back", "sent back"),
                        ],
                        max_length=6,
                    ),
                ),
                (
                    "reasons",
                    models.JSONField(
                        blank=True, default=list, help_text="[level, sentence], the worst first"
                    ),
                ),
                (
                    "figures",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="key, group, label, kind and quantity of each",
                    ),
                ),
                ("data", models.JSONField(blank=True, default=dict)),
                (
                    "view",
                    models.CharField(
                        blank=True, help_text="path of the turning view (GLB)", max_length=200
                    ),
                ),
                (
                    "still",
                    models.CharField(
                        blank=True, help_text="path of the picture (PNG)", max_length=200
                    ),
                ),
                (
                    "mended",
                    models.CharField(
                        blank=True, help_text="path of the mended copy (STL)", max_length=200
                    ),
                ),
                ("core_version", models.CharField(blank=True, max_length=20)),
                ("asked_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("ended_at", models.DateTimeField(blank=True, null=True)),
                ("seconds", models.FloatField(blank=True, null=True)),
                (
                    "file",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="check_row",
                        to="entries.partfile",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(fields=["state", "asked_at"], name="entries_par_state_935949_idx")
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("state", "done"), ("verdict__gt", "")),
                            models.Q(("state", "done"), _negated=True),
                            _connector="OR",
                        ),
                        name="check_done_has_a_verdict",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Version",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("number", models.PositiveSmallIntegerField(default=1)),
                ("changed", models.TextField(blank=True)),
                ("why", models.TextField(blank=True, help_text="why it should be better")),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "sealed_at",
                    models.DateTimeField(
                        blank=True,
                        help_text="when its first run was recorded; predictions are fixed from then on and may be seen",
                        null=True,
                    ),
                ),
                (
                    "entry",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="versions",
                        to="entries.entry",
                    ),
                ),
                (
                    "material",
                    models.ForeignKey(
                        blank=True,
                        help_text="wish of the designer",
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="stores.material",
                    ),
                ),
            ],
            options={
                "ordering": ["number"],
                "constraints": [
                    models.UniqueConstraint(fields=("entry", "number"), name="version_once")
                ],
            },
        ),
        migrations.CreateModel(
            name="Upload",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("key", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("name", models.CharField(max_length=120)),
                ("size", models.PositiveBigIntegerField()),
                ("received", models.PositiveBigIntegerField(default=0)),
                ("began_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "user",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "version",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="uploads",
                        to="entries.version",
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Prediction",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                (
                    "procedure",
                    models.CharField(
                        help_text="key of the procedure whose figure is foretold", max_length=30
                    ),
                ),
                (
                    "source",
                    models.CharField(
                        choices=[("designer", "designer"), ("model", "model")], max_length=10
                    ),
                ),
                (
                    "model",
                    models.CharField(
                        blank=True,
                        help_text="key of the Desk's tool; empty for a designer's own",
                        max_length=20,
                    ),
                ),
                ("value", models.FloatField(help_text="SI unit of the procedure's kind")),
                (
                    "u",
                    models.FloatField(
                        default=0.0,
                        help_text="standard uncertainty, same unit; 0 where none was told",
                    ),
                ),
                (
                    "inputs",
                    models.JSONField(
                        blank=True, default=dict, help_text="what the model was given"
                    ),
                ),
                ("core_version", models.CharField(blank=True, max_length=20)),
                ("made_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "made_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="predictions",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "version",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="predictions",
                        to="entries.version",
                    ),
                ),
            ],
            options={
                "ordering": ["procedure", "source"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("version", "procedure", "source", "model"), name="prediction_once"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("u__gte", 0)), name="prediction_doubt_not_negative"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("model__gt", ""), ("source", "model")),
                            models.Q(("model", ""), ("source", "designer")),
                            _connector="OR",
                        ),
                        name="model_named_where_one_predicts",
                    ),
                ],
            },
        ),
        migrations.AddField(
            model_name="partfile",
            name="version",
            field=models.ForeignKey(
                on_delete=django.db.models.deletion.CASCADE,
                related_name="files",
                to="entries.version",
            ),
        ),
        migrations.CreateModel(
            name="BillItem",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("order", models.PositiveSmallIntegerField(default=0)),
                ("name", models.CharField(max_length=80)),
                (
                    "quantity",
                    models.DecimalField(decimal_places=2, default=Decimal("1"), max_digits=8),
                ),
                (
                    "price",
                    models.DecimalField(
                        decimal_places=2, default=Decimal("0"), help_text="of one", max_digits=9
                    ),
                ),
                (
                    "version",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="bill",
                        to="entries.version",
                    ),
                ),
            ],
            options={
                "ordering": ["order", "id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(("price__gte", 0), ("quantity__gt", 0)),
                        name="bill_item_sane",
                        violation_error_message="A quantity is above 0 and a price not negative.",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="AssemblyStep",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("order", models.PositiveSmallIntegerField(default=0)),
                ("text", models.CharField(max_length=300)),
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
                    "version",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="steps",
                        to="entries.version",
                    ),
                ),
            ],
            options={
                "ordering": ["order", "id"],
            },
        ),
        migrations.AddConstraint(
            model_name="partfile",
            constraint=models.UniqueConstraint(
                fields=("version", "name"), name="part_file_once_in_a_version"
            ),
        ),
        migrations.AddConstraint(
            model_name="partfile",
            constraint=models.CheckConstraint(
                condition=models.Q(("count__gte", 1), ("count__lte", 200)),
                name="part_count_sane",
                violation_error_message="An entry needs 1 to 200 of a part.",
            ),
        ),
    ]
