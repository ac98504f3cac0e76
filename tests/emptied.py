"""Tables emptied after tests that commit: only those that were filled, and by deleting their rows.

Django empties all tables by one TRUNCATE, which makes the files of each table and index anew, and
makes all permissions and content types again; a test leaves a few hundred rows in a third of them.
"""

from __future__ import annotations

from django.apps import apps
from django.db import connection, transaction

from hauch.stores.apps import usual_materials
from tests.snapshot import filled

KEPT = {"django_migrations", "django_content_type", "auth_permission"}
"""What comes with the tables."""


class Emptied:
    """Before `TransactionTestCase` among the bases of a test."""

    def _fixture_teardown(self) -> None:
        with transaction.atomic(), connection.cursor() as cursor:
            # Rows refer to each other in circles; all of them go.
            cursor.execute("SET LOCAL session_replication_role = replica")
            for table in sorted(filled() - KEPT):
                cursor.execute(f'DELETE FROM "{table}"')
        usual_materials(apps.get_app_config("stores"), connection.alias)
