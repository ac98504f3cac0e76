"""Raw data is append-only: the database itself refuses to change or delete it."""

from django.db import migrations

TABLES = ("bench_reading", "bench_chunk", "bench_sourcefile", "people_auditentry")

FUNCTION = """
create function hauch_append_only() returns trigger language plpgsql as $$
begin
  raise exception 'Rows of % are never changed or deleted.', tg_table_name using errcode = 'integrity_constraint_violation';
end $$
"""


class Migration(migrations.Migration):
    dependencies = [("bench", "0001_initial"), ("people", "0002_initial")]

    operations = [
        migrations.RunSQL(FUNCTION, "drop function hauch_append_only()"),
        *(
            migrations.RunSQL(
                f"create trigger append_only before update or delete on {table} for each row execute function hauch_append_only()",
                f"drop trigger append_only on {table}",
            )
            for table in TABLES
        ),
    ]
