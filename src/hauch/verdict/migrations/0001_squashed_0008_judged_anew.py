"""All of this app's tables in one step, for new installations: the migrations it replaces are for
those that are brought up to date.
"""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    replaces = [
        ("verdict", "0001_initial"),
        ("verdict", "0002_schemes"),
        ("verdict", "0003_changes_counted"),
        ("verdict", "0004_changes_carried_over"),
        ("verdict", "0005_stale_removed"),
        ("verdict", "0006_publications"),
        ("verdict", "0007_expanded"),
        ("verdict", "0008_judged_anew"),
    ]

    initial = True

    dependencies = [
        ("entries", "0001_squashed_0005_speed_limits_taken_out"),
        ("rounds", "0001_squashed_0006_choices_by_name"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Publication",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("at", models.DateTimeField()),
                (
                    "content",
                    models.JSONField(
                        help_text="round, rules, tests, rows, reference: all that the page shows, SI"
                    ),
                ),
                ("core_version", models.CharField(max_length=20)),
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
                    "round",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="publications",
                        to="rounds.round",
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
            },
        ),
        migrations.CreateModel(
            name="Standing",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("computed_at", models.DateTimeField(null=True)),
                ("changes", models.PositiveBigIntegerField(default=0)),
                ("changed_at", models.DateTimeField(help_text="when it turned stale", null=True)),
                (
                    "judged",
                    models.BigIntegerField(
                        default=-1,
                        help_text="how many of the changes its rows show; -1 before it was ever computed",
                    ),
                ),
                (
                    "failure",
                    models.CharField(
                        blank=True,
                        help_text="what went wrong when it was last computed",
                        max_length=300,
                    ),
                ),
                ("core_version", models.CharField(blank=True, max_length=20)),
                (
                    "reference",
                    models.JSONField(
                        default=dict,
                        help_text="the reference by test: value, doubt, drift, bridges",
                    ),
                ),
                (
                    "notes",
                    models.JSONField(
                        default=list, help_text="sentences on what could not be compared"
                    ),
                ),
                (
                    "ground",
                    models.FloatField(
                        help_text="the reference's own score; empty where it has none", null=True
                    ),
                ),
                (
                    "ground_expanded",
                    models.FloatField(
                        default=0,
                        help_text="half-width of the 95 % interval that the reference's repeats leave about it",
                    ),
                ),
                (
                    "rules",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="standing",
                        to="rounds.ruleversion",
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="StandingRow",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "version",
                    models.PositiveSmallIntegerField(
                        help_text="number of the version that takes part; empty while none was run",
                        null=True,
                    ),
                ),
                ("place", models.PositiveIntegerField(help_text="order in the table, from 1")),
                (
                    "state",
                    models.CharField(
                        choices=[
                            ("ranked", "ranked"),
                            ("incomplete", "not complete"),
                            ("dnf", "did not finish"),
                        ],
                        max_length=10,
                    ),
                ),
                ("rank", models.PositiveIntegerField(null=True)),
                ("score", models.FloatField(null=True)),
                ("u", models.FloatField(null=True)),
                (
                    "expanded",
                    models.FloatField(
                        help_text="half-width of the 95 % interval of the score", null=True
                    ),
                ),
                ("first", models.FloatField(help_text="probability of the first place", null=True)),
                ("low", models.PositiveIntegerField(null=True)),
                ("high", models.PositiveIntegerField(null=True)),
                (
                    "probabilities",
                    models.JSONField(
                        default=list, help_text="of each place; kept for small rounds"
                    ),
                ),
                (
                    "tests",
                    models.JSONField(
                        default=dict,
                        help_text="test key -> value, u, delta, delta_u, word, probability, repeats, count",
                    ),
                ),
                (
                    "kept",
                    models.FloatField(
                        help_text="probability of keeping all limits; empty where there are none",
                        null=True,
                    ),
                ),
                (
                    "outside",
                    models.BooleanField(
                        default=False,
                        help_text="breaks a limit, so it comes after all that keep it",
                    ),
                ),
                ("reason", models.TextField(blank=True)),
                (
                    "entry",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="standing_rows",
                        to="entries.entry",
                    ),
                ),
                (
                    "standing",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="rows",
                        to="verdict.standing",
                    ),
                ),
            ],
            options={
                "ordering": ["place"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("standing", "entry"), name="entry_once_in_a_standing"
                    ),
                    models.UniqueConstraint(
                        fields=("standing", "place"), name="place_once_in_a_standing"
                    ),
                    models.CheckConstraint(
                        condition=models.Q(
                            models.Q(("rank__isnull", False), ("state", "ranked")),
                            models.Q(
                                models.Q(("state", "ranked"), _negated=True), ("rank__isnull", True)
                            ),
                            _connector="OR",
                        ),
                        name="ranked_rows_have_a_rank",
                    ),
                ],
            },
        ),
    ]
