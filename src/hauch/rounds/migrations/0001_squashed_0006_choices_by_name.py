"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import uuid

import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models

import hauch.rounds.models


class Migration(migrations.Migration):
    replaces = [
        ("rounds", "0001_initial"),
        ("rounds", "0002_briefs_and_rules"),
        ("rounds", "0003_bridging"),
        ("rounds", "0004_brief_of_rules"),
        ("rounds", "0005_procedures"),
        ("rounds", "0006_choices_by_name"),
    ]

    initial = True

    dependencies = [
        ("stores", "0001_squashed_0005_choices_by_name"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Round",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("uid", models.UUIDField(default=uuid.uuid4, editable=False, unique=True)),
                ("slug", models.SlugField(max_length=60, unique=True)),
                ("number", models.PositiveIntegerField(default=1)),
                ("title", models.CharField(max_length=80)),
                ("place", models.CharField(blank=True, max_length=80)),
                ("question", models.CharField(max_length=200)),
                (
                    "part",
                    models.CharField(
                        choices=[
                            ("rotor", "rotor"),
                            ("duct", "duct"),
                            ("ring", "bladeless ring"),
                            ("intake", "intake"),
                        ],
                        max_length=10,
                    ),
                ),
                ("may_vary", models.TextField(blank=True)),
                ("motors", models.PositiveSmallIntegerField(default=1)),
                ("own_parts", models.BooleanField(default=False)),
                ("orientation", models.CharField(blank=True, max_length=80)),
                (
                    "equal",
                    models.CharField(
                        choices=[
                            ("throttle", "full throttle"),
                            ("power", "equal electrical power"),
                            ("noise", "equal noise"),
                            ("duty", "the same duty point"),
                        ],
                        default="throttle",
                        max_length=10,
                    ),
                ),
                (
                    "equal_value",
                    models.FloatField(
                        blank=True, help_text="W, dB(A) or m3/s, by what is equal", null=True
                    ),
                ),
                (
                    "envelope",
                    models.JSONField(
                        blank=True, default=dict, help_text="values [m] by parameter, keep-outs"
                    ),
                ),
                ("entries_until", models.DateField(blank=True, null=True)),
                ("safety", models.TextField(blank=True)),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("brief", "brief being written"),
                            ("open", "open for entries"),
                            ("bench", "on the bench"),
                            ("published", "published"),
                        ],
                        default="brief",
                        max_length=10,
                    ),
                ),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("published_at", models.DateTimeField(blank=True, null=True)),
            ],
            options={
                "ordering": ["-number", "title"],
                "constraints": [
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("published_at__isnull", False), ("state", "published")),
                            models.Q(
                                models.Q(("state", "published"), _negated=True),
                                ("published_at__isnull", True),
                            ),
                            _connector="OR",
                        ),
                        name="published_rounds_have_a_date",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("motors__gte", 1), ("motors__lte", 12)),
                        name="round_motors_sane",
                        violation_error_message="Allow 1 to 12 motors.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("equal_value__isnull", True), ("equal_value__gt", 0), _connector="OR"
                        ),
                        name="round_equal_value_sane",
                        violation_error_message="What is held equal must be above 0.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Invitation",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "role",
                    models.CharField(
                        choices=[
                            ("host", "Host"),
                            ("operator", "Bench operator"),
                            ("designer", "Designer"),
                            ("viewer", "Viewer"),
                        ],
                        max_length=10,
                    ),
                ),
                ("digest", models.CharField(max_length=64, unique=True)),
                ("whom", models.CharField(blank=True, max_length=80)),
                ("uses_left", models.PositiveSmallIntegerField(default=1)),
                ("expires_at", models.DateTimeField()),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("revoked_at", models.DateTimeField(blank=True, null=True)),
                (
                    "created_by",
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
                        related_name="invitations",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "ordering": ["-created_at"],
            },
        ),
        migrations.CreateModel(
            name="RuleVersion",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("number", models.PositiveSmallIntegerField()),
                (
                    "scheme",
                    models.CharField(
                        choices=[
                            ("weighted_percent", "weighted percent against the reference"),
                            ("best_single", "best single metric"),
                            ("rank_points", "rank points with test weights"),
                            ("constraint", "constraint, then objective"),
                            ("sum", "sum of the figures as they stand"),
                            ("front", "trade-off front, no single score"),
                        ],
                        default="weighted_percent",
                        max_length=20,
                    ),
                ),
                (
                    "tie_rule",
                    models.CharField(
                        choices=[
                            ("too_close", "shared rank while too close to call"),
                            ("equal_score", "shared rank for equal scores only"),
                        ],
                        default="too_close",
                        max_length=20,
                    ),
                ),
                (
                    "level_as",
                    models.CharField(
                        choices=[
                            ("level", "percent of the level as read"),
                            ("loudness", "percent of loudness, halved by every 10 dB"),
                        ],
                        default="level",
                        max_length=10,
                    ),
                ),
                ("draws", models.PositiveIntegerField(default=20000)),
                ("seed", models.PositiveIntegerField(default=140)),
                (
                    "brief",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="what the brief said when the version was made: field -> value",
                    ),
                ),
                ("reason", models.TextField(blank=True)),
                ("created_at", models.DateTimeField(default=django.utils.timezone.now)),
                (
                    "created_by",
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
                        related_name="rules",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "ordering": ["-number"],
            },
        ),
        migrations.CreateModel(
            name="RuleQuestion",
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
                        choices=[("question", "question"), ("objection", "objection")],
                        default="question",
                        max_length=10,
                    ),
                ),
                ("text", models.TextField(max_length=4000)),
                ("asked_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("answer", models.TextField(blank=True, max_length=4000)),
                ("answered_at", models.DateTimeField(blank=True, null=True)),
                (
                    "answered_by",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "asked_by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "rules",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="questions",
                        to="rounds.ruleversion",
                    ),
                ),
            ],
            options={
                "ordering": ["asked_at", "id"],
            },
        ),
        migrations.CreateModel(
            name="Setting",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("label", models.CharField(max_length=80)),
                (
                    "values",
                    models.JSONField(
                        blank=True,
                        default=dict,
                        help_text="what is set -> to what, such as throttle -> 75 %",
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="settings",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "ordering": ["label"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("round", "label"), name="setting_once_in_a_round"
                    )
                ],
            },
        ),
        migrations.CreateModel(
            name="Test",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("key", models.SlugField(max_length=40)),
                ("label", models.CharField(max_length=80)),
                (
                    "procedure",
                    models.CharField(choices=hauch.rounds.models.procedure_choices, max_length=30),
                ),
                ("order", models.PositiveSmallIntegerField(default=1)),
                ("repeats", models.PositiveSmallIntegerField(default=3)),
                ("readings", models.PositiveSmallIntegerField(default=5)),
                ("common_speed", models.FloatField(blank=True, null=True)),
                ("reporting_distance", models.FloatField(blank=True, null=True)),
                (
                    "resolution",
                    models.FloatField(
                        blank=True,
                        help_text="what a settled temperature must resolve, K",
                        null=True,
                    ),
                ),
                (
                    "soak",
                    models.CharField(
                        choices=[
                            ("none", "no soak"),
                            ("minutes", "fixed minutes"),
                            ("settled", "until settled"),
                        ],
                        default="none",
                        max_length=10,
                    ),
                ),
                ("soak_minutes", models.FloatField(blank=True, null=True)),
                (
                    "baseline",
                    models.FloatField(
                        default=1.0,
                        help_text="how well the reference must repeat before entries are run: %, dB or points",
                    ),
                ),
                (
                    "dropped",
                    models.BooleanField(
                        default=False, help_text="no longer measured; its runs are kept"
                    ),
                ),
                (
                    "replaces",
                    models.OneToOneField(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="successor",
                        to="rounds.test",
                    ),
                ),
                (
                    "rig",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="tests",
                        to="stores.rig",
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="tests",
                        to="rounds.round",
                    ),
                ),
                (
                    "setting",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="tests",
                        to="rounds.setting",
                    ),
                ),
            ],
            options={
                "ordering": ["order", "key"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("round", "key"), name="test_key_once_in_a_round"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("repeats__gte", 1),
                            ("readings__gte", 1),
                            models.Q(
                                ("common_speed__isnull", True),
                                ("common_speed__gt", 0),
                                _connector="OR",
                            ),
                        ),
                        name="test_counts_sane",
                        violation_error_message="Repeats and readings must be 1 or more, a common speed above 0.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("soak", "minutes"), _negated=True),
                            ("soak_minutes__gt", 0),
                            _connector="OR",
                        ),
                        name="test_soak_has_minutes",
                        violation_error_message="A soak of fixed minutes needs the minutes, above 0.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(("baseline__gt", 0)),
                        name="test_baseline_above_zero",
                        violation_error_message="What the reference must repeat to must be above 0.",
                    ),
                ],
            },
        ),
        migrations.AddField(
            model_name="ruleversion",
            name="tests",
            field=models.ManyToManyField(
                help_text="all that is measured, scored or not",
                related_name="in_rules",
                to="rounds.test",
            ),
        ),
        migrations.CreateModel(
            name="RuleTerm",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("weight", models.FloatField(blank=True, null=True)),
                (
                    "most_loss",
                    models.FloatField(
                        blank=True,
                        help_text="the most that an entry may lose against the reference: %, dB or points; below 0 asks for a gain",
                        null=True,
                    ),
                ),
                (
                    "rules",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="terms",
                        to="rounds.ruleversion",
                    ),
                ),
                (
                    "test",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="terms",
                        to="rounds.test",
                    ),
                ),
            ],
            options={
                "ordering": ["test__order", "test__key"],
                "constraints": [
                    models.UniqueConstraint(fields=("rules", "test"), name="one_weight_for_a_test"),
                    models.CheckConstraint(
                        condition=models.Q(("weight__gt", 0)),
                        name="weight_above_zero",
                        violation_error_message="A weight must be above 0.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("weight__isnull", False), ("most_loss__isnull", False), _connector="OR"
                        ),
                        name="term_does_something",
                        violation_error_message="A test in the rules has a weight or a limit.",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="TestReference",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("since", models.DateTimeField(default=django.utils.timezone.now)),
                ("until", models.DateTimeField(blank=True, null=True)),
                ("bridging", models.BooleanField(default=False)),
                (
                    "specimen",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="tests",
                        to="stores.referencespecimen",
                    ),
                ),
                (
                    "test",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="references",
                        to="rounds.test",
                    ),
                ),
            ],
            options={
                "ordering": ["since", "id"],
                "constraints": [
                    models.UniqueConstraint(
                        condition=models.Q(("bridging", False), ("until__isnull", True)),
                        fields=("test",),
                        name="one_active_reference_for_a_test",
                        violation_error_message="This test already has a reference specimen in use. Retire it first.",
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            ("until__isnull", True),
                            ("until__gte", models.F("since")),
                            _connector="OR",
                        ),
                        name="reference_ends_after_start",
                    ),
                ],
            },
        ),
        migrations.CreateModel(
            name="Membership",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "role",
                    models.CharField(
                        choices=[
                            ("host", "Host"),
                            ("operator", "Bench operator"),
                            ("designer", "Designer"),
                            ("viewer", "Viewer"),
                        ],
                        max_length=10,
                    ),
                ),
                (
                    "user",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="memberships",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
                (
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="memberships",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=("round", "user"), name="one_role_in_a_round")
                ],
            },
        ),
        migrations.AddConstraint(
            model_name="ruleversion",
            constraint=models.UniqueConstraint(
                fields=("round", "number"), name="rule_version_once"
            ),
        ),
        migrations.AddConstraint(
            model_name="ruleversion",
            constraint=models.CheckConstraint(
                condition=models.Q(("draws__gte", 1000), ("draws__lte", 1000000)),
                name="rule_draws_sane",
            ),
        ),
    ]
