"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid

import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models

import hauch.bench.models
import hauch.stores.models

FUNCTION = """
create function hauch_append_only() returns trigger language plpgsql as $$
begin
  raise exception 'Rows of % are never changed or deleted.', tg_table_name using errcode = 'integrity_constraint_violation';
end $$
"""


TABLES = ("bench_reading", "bench_chunk", "bench_sourcefile", "people_auditentry")

RELEASED = """
create function hauch_piece_released() returns trigger language plpgsql as $$
begin
  if exists (
    select from gone
    join bench_recording recording on recording.id = gone.recording_id
    left join (
      select recording_id, min(from_s) as low, max(to_s) as high from bench_chunk
      where channel = 'time' and recording_id in (select distinct recording_id from gone)
      group by recording_id
    ) kept on kept.recording_id = gone.recording_id
    where kept.low is null
      or gone.first / recording.rate < kept.low - 1e-6
      or (gone.first + gone.count - 1) / recording.rate > kept.high + 1e-6
  ) then
    raise exception 'Rows of bench_piece are deleted only when they have become chunks.' using errcode = 'integrity_constraint_violation';
  end if;
  return null;
end $$
"""


class Migration(migrations.Migration):
    replaces = [
        ("bench", "0001_initial"),
        ("bench", "0002_append_only"),
        ("bench", "0003_rig_of_a_run"),
        ("bench", "0004_rig_of_a_run_filled"),
        ("bench", "0005_versions_sealed"),
        ("bench", "0006_live"),
        ("bench", "0007_waveforms"),
        ("bench", "0008_progress_by_version"),
        ("bench", "0009_progress_counted_anew"),
        ("bench", "0010_traces_by_stretch"),
        ("bench", "0011_reach_of_chunks"),
        ("bench", "0012_chunks_reach"),
        ("bench", "0013_imports_by_the_worker"),
        ("bench", "0014_wishes_by_kind"),
        ("bench", "0015_words_of_live"),
        ("bench", "0016_choices_by_name"),
    ]

    initial = True

    dependencies = [
        ("entries", "0001_squashed_0005_speed_limits_taken_out"),
        ("rounds", "0001_squashed_0006_choices_by_name"),
        ("stores", "0001_squashed_0005_choices_by_name"),
        ("workshop", "0001_squashed_0003_limits_lowered"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
        ("people", "0002_initial"),
    ]

    operations = [
        migrations.CreateModel(
            name="LogMapping",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("fingerprint", models.CharField(max_length=64, unique=True)),
                ("columns", models.JSONField(help_text="for each column: [channel, unit]")),
                ("day_first", models.BooleanField(default=True)),
                ("confirmed_at", models.DateTimeField(auto_now=True)),
                (
                    "confirmed_by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Recording",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("started_at", models.DateTimeField()),
                (
                    "columns",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="of a file: [channel, unit]; of a live recording: its channels in the order of a piece",
                    ),
                ),
                (
                    "rate",
                    models.FloatField(
                        blank=True, help_text="ticks a second of a live recording", null=True
                    ),
                ),
                (
                    "shift",
                    models.FloatField(
                        default=0.0,
                        help_text="s to add to this recording's times to be on the clock of the one that it ran beside",
                    ),
                ),
                (
                    "shift_note",
                    models.CharField(
                        blank=True, help_text="how the shift was found", max_length=300
                    ),
                ),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "beside",
                    models.ForeignKey(
                        blank=True,
                        help_text="the recording that a second logger ran beside",
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="seconds",
                        to="bench.recording",
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="recordings",
                        to="rounds.round",
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Run",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("replicate", models.PositiveIntegerField()),
                ("started_at", models.DateTimeField()),
                (
                    "state",
                    models.CharField(
                        choices=[("valid", "valid"), ("void", "void"), ("dnf", "did not finish")],
                        default="valid",
                        max_length=5,
                    ),
                ),
                ("reason", models.TextField(blank=True)),
                ("note", models.TextField(blank=True)),
                ("temperature", models.FloatField(help_text="degC", null=True)),
                ("pressure", models.FloatField(help_text="Pa", null=True)),
                ("humidity", models.FloatField(help_text="%", null=True)),
                ("hours", models.FloatField(default=0, help_text="for which the part ran")),
                (
                    "windows",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="[from s, to s] of each reading taken from the recording; empty for its last quarter",
                    ),
                ),
                (
                    "beside",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="background, tare -> [from s, to s] in the recording, read without the part",
                    ),
                ),
                (
                    "form_key",
                    models.UUIDField(
                        default=uuid.uuid4,
                        help_text="the form it was sent with, so that sending twice records once",
                        unique=True,
                    ),
                ),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "carried_from",
                    models.ForeignKey(
                        blank=True,
                        help_text="the run whose readings this one is made of",
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="carried_to",
                        to="bench.run",
                    ),
                ),
                (
                    "operator",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
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
                    "recording",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="bench.recording",
                    ),
                ),
                (
                    "reference",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="stores.referencespecimen",
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        help_text="in the state in which it was",
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="stores.rig",
                    ),
                ),
                (
                    "setting",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="rounds.setting",
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="workshop.specimen",
                    ),
                ),
                (
                    "test",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="runs",
                        to="rounds.test",
                    ),
                ),
            ],
            options={
                "ordering": ["started_at", "id"],
                "indexes": [
                    models.Index(
                        fields=["test", "started_at"], name="bench_run_test_id_840c19_idx"
                    ),
                    models.Index(fields=["specimen", "test"], name="bench_run_specime_1201ca_idx"),
                    models.Index(fields=["created_at"], name="bench_run_created_62a2ab_idx"),
                    models.Index(fields=["started_at"], name="bench_run_started_515fd4_idx"),
                    models.Index(
                        condition=models.Q(("reference__isnull", False)),
                        fields=["reference", "started_at"],
                        name="run_of_reference",
                    ),
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("reference__isnull", True), ("specimen__isnull", False)),
                            models.Q(("reference__isnull", False), ("specimen__isnull", True)),
                            _connector="OR",
                        ),
                        name="run_of_one_specimen_or_reference",
                    ),
                    models.UniqueConstraint(
                        condition=models.Q(("specimen__isnull", False)),
                        fields=("test", "setting", "specimen", "replicate"),
                        name="repeat_once_for_a_specimen",
                    ),
                    models.UniqueConstraint(
                        condition=models.Q(("reference__isnull", False)),
                        fields=("test", "setting", "reference", "replicate"),
                        name="repeat_once_for_a_reference",
                    ),
                    models.UniqueConstraint(
                        condition=models.Q(("carried_from__isnull", False)),
                        fields=("test", "carried_from"),
                        name="run_carried_once",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("hours__gte", 0)), name="run_hours_not_negative"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("state", "valid"),
                            models.Q(("reason", ""), _negated=True),
                            _connector="OR",
                        ),
                        name="void_and_dnf_have_a_reason",
                        violation_error_message="Say why, in a few words.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("state", "valid"), _negated=True),
                            models.Q(
                                ("humidity__gte", 0),
                                ("humidity__isnull", False),
                                ("humidity__lte", 100),
                                ("pressure__gte", 50000),
                                ("pressure__isnull", False),
                                ("pressure__lte", 120000),
                                ("temperature__gte", -40),
                                ("temperature__isnull", False),
                                ("temperature__lte", 60),
                            ),
                            _connector="OR",
                        ),
                        name="room_readings_sane",
                        violation_error_message="Room temperature, air pressure and humidity are missing or cannot be.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Result",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("value", models.FloatField(null=True)),
                ("u", models.FloatField(null=True)),
                ("dof", models.FloatField(help_text="empty for infinitely many", null=True)),
                ("unit", models.CharField(blank=True, max_length=10)),
                (
                    "parts",
                    models.JSONField(
                        default=list,
                        help_text="[key, cause, scope, kind, dof, signed contribution]",
                    ),
                ),
                ("working", models.JSONField(default=list)),
                (
                    "marks",
                    models.JSONField(
                        default=list, help_text="[channel, kind, from s, to s, samples]"
                    ),
                ),
                (
                    "curve",
                    models.JSONField(
                        blank=True, help_text="points and line of a sweep, SI", null=True
                    ),
                ),
                (
                    "troubles",
                    models.JSONField(
                        default=list,
                        help_text="sentences: what was found, and what was done about it",
                    ),
                ),
                ("missing", models.TextField(blank=True, help_text="why there is no value")),
                ("core_version", models.CharField(max_length=20)),
                ("computed_at", models.DateTimeField(auto_now=True)),
                (
                    "run",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="result",
                        to="bench.run",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(
                        condition=models.Q(("value__isnull", True)),
                        fields=["run"],
                        name="result_missing",
                    )
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(
                                ("missing", ""), ("u__isnull", False), ("value__isnull", False)
                            ),
                            models.Q(
                                ("value__isnull", True), models.Q(("missing", ""), _negated=True)
                            ),
                            _connector="OR",
                        ),
                        name="result_or_reason",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("u__isnull", True), ("u__gte", 0), _connector="OR"),
                        name="doubt_not_negative",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Reading",
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
                    "position",
                    models.PositiveSmallIntegerField(
                        default=0, help_text="point of a traverse; 0 where none"
                    ),
                ),
                ("seq", models.PositiveIntegerField()),
                ("value", models.FloatField(help_text="SI unit of the channel")),
                ("typed", models.CharField(max_length=40)),
                ("unit", models.CharField(max_length=20)),
                (
                    "run",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="readings",
                        to="bench.run",
                    ),
                ),
            ],
            options={
                "ordering": ["channel", "position", "seq"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("run", "channel", "position", "seq"), name="reading_once"
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Observation",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "at_s",
                    models.FloatField(
                        blank=True,
                        help_text="s of the recording; empty for all of the run",
                        null=True,
                    ),
                ),
                ("text", models.CharField(blank=True, max_length=1000)),
                ("tags", models.JSONField(blank=True, default=list)),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
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
                    "recording",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="observations",
                        to="bench.recording",
                    ),
                ),
                (
                    "run",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="observations",
                        to="bench.run",
                    ),
                ),
            ],
            options={
                "ordering": ["at_s", "id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("recording__isnull", False), ("run__isnull", False), _connector="OR"
                        ),
                        name="observation_of_something",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("text", ""), _negated=True),
                            ("picture__isnull", False),
                            models.Q(("tags", []), _negated=True),
                            _connector="OR",
                        ),
                        name="observation_says_something",
                        violation_error_message="Write what you saw, choose a tag or add a picture.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Exclusion",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "channel",
                    models.CharField(choices=hauch.bench.models.excluded_choices, max_length=30),
                ),
                ("from_s", models.FloatField(blank=True, null=True)),
                ("to_s", models.FloatField(blank=True, null=True)),
                ("reason", models.CharField(max_length=300)),
                ("at", models.DateTimeField(default=django.utils.timezone.now)),
                ("undone_at", models.DateTimeField(blank=True, null=True)),
                (
                    "by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "undone_by",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "reading",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="exclusions",
                        to="bench.reading",
                    ),
                ),
                (
                    "run",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="exclusions",
                        to="bench.run",
                    ),
                ),
            ],
            options={
                "ordering": ["at", "id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(("reason", ""), _negated=True),
                        name="exclusion_has_a_reason",
                        violation_error_message="Say why, in a few words.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("reading__isnull", False),
                            models.Q(
                                ("from_s__isnull", False),
                                ("to_s__gte", models.F("from_s")),
                                ("to_s__isnull", False),
                            ),
                            _connector="OR",
                        ),
                        name="exclusion_of_something",
                        violation_error_message="The stretch ends before it begins.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="SourceFile",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("sha256", models.CharField(max_length=64, unique=True)),
                ("name", models.CharField(max_length=200)),
                ("size", models.PositiveBigIntegerField()),
                ("path", models.CharField(max_length=200)),
                ("uploaded_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "uploaded_by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
        ),
        migrations.AddField(
            model_name="recording",
            name="source",
            field=models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="recordings",
                to="bench.sourcefile",
            ),
        ),
        migrations.CreateModel(
            name="LogImport",
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
                            ("waiting", "waiting for the worker"),
                            ("running", "being imported"),
                            ("done", "imported"),
                            ("failed", "not imported"),
                        ],
                        default="waiting",
                        max_length=8,
                    ),
                ),
                (
                    "asked",
                    models.JSONField(help_text="what was confirmed, see bench.importing.Asked"),
                ),
                (
                    "stage",
                    models.CharField(blank=True, help_text="what is being done", max_length=60),
                ),
                ("progress", models.FloatField(default=0.0, help_text="share that is done")),
                ("told", models.TextField(blank=True, help_text="what it came to, in a sentence")),
                (
                    "problems",
                    models.JSONField(blank=True, default=list, help_text="why it was not imported"),
                ),
                (
                    "rows",
                    models.JSONField(
                        blank=True, default=list, help_text="[line, why it cannot be read]"
                    ),
                ),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("ended_at", models.DateTimeField(blank=True, null=True)),
                (
                    "by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="imports",
                        to="rounds.round",
                    ),
                ),
                (
                    "recording",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="bench.recording",
                    ),
                ),
                (
                    "source",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="imports",
                        to="bench.sourcefile",
                    ),
                ),
            ],
            options={
                "ordering": ["-created_at", "-id"],
                "constraints": [
                    models.UniqueConstraint(
                        condition=models.Q(("ended_at__isnull", True)),
                        fields=("round", "source"),
                        name="one_import_of_a_file_at_a_time",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Waveform",
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
                ("at_s", models.FloatField(help_text="s of the recording at which it ends")),
                ("seconds", models.FloatField()),
                ("rate", models.FloatField(help_text="samples a second")),
                (
                    "clipped",
                    models.FloatField(
                        default=0.0, help_text="share of the samples at the end of the scale"
                    ),
                ),
                (
                    "recording",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="waveforms",
                        to="bench.recording",
                    ),
                ),
                (
                    "source",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="waveforms",
                        to="bench.sourcefile",
                    ),
                ),
            ],
            options={
                "ordering": ["at_s", "id"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            ("clipped__gte", 0),
                            ("clipped__lte", 1),
                            ("rate__gt", 0),
                            ("seconds__gt", 0),
                        ),
                        name="waveform_sane",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Progress",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("counted", models.PositiveIntegerField(default=0)),
                ("missing", models.PositiveIntegerField(default=0)),
                ("dnf", models.PositiveIntegerField(default=0)),
                (
                    "entry",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="progress",
                        to="entries.entry",
                    ),
                ),
                (
                    "test",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="progress",
                        to="rounds.test",
                    ),
                ),
                (
                    "version",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="+",
                        to="entries.version",
                    ),
                ),
            ],
            options={
                "verbose_name_plural": "progress",
                "constraints": [
                    models.UniqueConstraint(
                        fields=("test", "entry"), name="progress_once", nulls_distinct=False
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Piece",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("first", models.BigIntegerField()),
                ("count", models.PositiveIntegerField()),
                ("data", models.BinaryField()),
                ("stored_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "recording",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="pieces",
                        to="bench.recording",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(
                        fields=["recording", "first"], name="bench_piece_recordi_42da92_idx"
                    )
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(("count__gte", 1), ("first__gte", 0)),
                        name="piece_has_rows",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Minute",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "number",
                    models.IntegerField(help_text="minutes from the start of the recording"),
                ),
                (
                    "channels",
                    models.JSONField(help_text="in the order of the data, the first one is time"),
                ),
                (
                    "data",
                    models.BinaryField(
                        help_text="64-bit floats of shape (4, channels, 60): number, mean, least, most"
                    ),
                ),
                (
                    "recording",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="minutes",
                        to="bench.recording",
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=("recording", "number"), name="minute_once")
                ],
            },
        ),
        migrations.CreateModel(
            name="Live",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("started_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("ended_at", models.DateTimeField(blank=True, null=True)),
                (
                    "done",
                    models.JSONField(
                        blank=True, default=dict, help_text="hauch.live.protocol.Steps"
                    ),
                ),
                (
                    "windows",
                    models.JSONField(
                        blank=True,
                        default=list,
                        help_text="[from s, to s] of each reading of the run that is being taken",
                    ),
                ),
                (
                    "beside",
                    models.JSONField(
                        blank=True, default=dict, help_text="background, tare -> [from s, to s]"
                    ),
                ),
                (
                    "room",
                    models.JSONField(
                        blank=True, default=dict, help_text="temperature, pressure, humidity; SI"
                    ),
                ),
                (
                    "wanted",
                    models.JSONField(
                        blank=True, default=dict, help_text="hauch.live.protocol.Wanted"
                    ),
                ),
                (
                    "status",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="what the recorder says, hauch.live.protocol.Status",
                    ),
                ),
                (
                    "heard_at",
                    models.DateTimeField(
                        blank=True, help_text="when the recorder last wrote", null=True
                    ),
                ),
                (
                    "operator",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "reference",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="lives",
                        to="stores.referencespecimen",
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="lives",
                        to="rounds.round",
                    ),
                ),
                (
                    "setting",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to="rounds.setting",
                    ),
                ),
                (
                    "specimen",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="lives",
                        to="workshop.specimen",
                    ),
                ),
                (
                    "test",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="lives",
                        to="rounds.test",
                    ),
                ),
                (
                    "recording",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="live",
                        to="bench.recording",
                    ),
                ),
            ],
            options={
                "ordering": ["-started_at", "-id"],
                "indexes": [
                    models.Index(
                        condition=models.Q(("ended_at__isnull", True)),
                        fields=["started_at"],
                        name="live_running",
                    )
                ],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("reference__isnull", True), ("specimen__isnull", False)),
                            models.Q(("reference__isnull", False), ("specimen__isnull", True)),
                            _connector="OR",
                        ),
                        name="live_of_one_specimen_or_reference",
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Chunk",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "channel",
                    models.CharField(choices=hauch.bench.models.trace_choices, max_length=30),
                ),
                ("seq", models.PositiveIntegerField()),
                ("from_s", models.FloatField(help_text="s of the recording of its first sample")),
                ("to_s", models.FloatField(help_text="s of the recording of its last sample")),
                ("count", models.PositiveIntegerField()),
                ("data", models.BinaryField()),
                (
                    "recording",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="chunks",
                        to="bench.recording",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(fields=["recording", "channel", "from_s"], name="chunk_by_time")
                ],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("recording", "channel", "seq"), name="chunk_once"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("to_s__gte", models.F("from_s"))),
                        name="chunk_ends_after_it_begins",
                    ),
                ],
            },
        ),
        migrations.AddConstraint(
            model_name="recording",
            constraint=models.UniqueConstraint(
                fields=("round", "source"), name="file_once_in_a_round"
            ),
        ),
        migrations.AddConstraint(
            model_name="recording",
            constraint=models.CheckConstraint(
                condition=models.Q(("rate__isnull", True), ("rate__gt", 0), _connector="OR"),
                name="recording_rate_above_zero",
            ),
        ),
        migrations.RunSQL(FUNCTION, "drop function hauch_append_only()"),
        *(
            migrations.RunSQL(
                f"create trigger append_only before update or delete on {table} for each row execute function hauch_append_only()",
                f"drop trigger append_only on {table}",
            )
            for table in (*TABLES, "bench_waveform")
        ),
        migrations.RunSQL(RELEASED, "drop function hauch_piece_released()"),
        migrations.RunSQL(
            "create trigger append_only before update on bench_piece for each row execute function hauch_append_only()",
            "drop trigger append_only on bench_piece",
        ),
        migrations.RunSQL(
            "create trigger released after delete on bench_piece referencing old table as gone for each statement execute function hauch_piece_released()",
            "drop trigger released on bench_piece",
        ),
    ]
