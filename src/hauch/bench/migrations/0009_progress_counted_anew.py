"""Counts of the version that takes part, for all that was run before: the newest of an entry with a run that was not voided, at the setting of its test."""

from django.db import migrations

ANEW = """
DELETE FROM bench_progress;
WITH counting AS (
    SELECT run.*, version.entry_id, version.id AS version_id, version.number, result.value
    FROM bench_run run
    JOIN rounds_test test ON test.id = run.test_id AND test.setting_id = run.setting_id
    LEFT JOIN workshop_specimen specimen ON specimen.id = run.specimen_id
    LEFT JOIN entries_version version ON version.id = specimen.version_id
    LEFT JOIN bench_result result ON result.run_id = run.id
    WHERE run.state <> 'void'
), taking_part AS (
    SELECT entry_id, max(number) AS number FROM counting WHERE entry_id IS NOT NULL GROUP BY entry_id
)
INSERT INTO bench_progress (test_id, entry_id, version_id, counted, missing, dnf)
SELECT counting.test_id, counting.entry_id, counting.version_id,
    count(*) FILTER (WHERE state = 'valid' AND value IS NOT NULL),
    count(*) FILTER (WHERE state = 'valid' AND value IS NULL),
    count(*) FILTER (WHERE state = 'dnf')
FROM counting LEFT JOIN taking_part USING (entry_id)
WHERE counting.entry_id IS NULL OR counting.number = taking_part.number
GROUP BY counting.test_id, counting.entry_id, counting.version_id
"""


class Migration(migrations.Migration):
    dependencies = [("bench", "0008_progress_by_version")]

    operations = [migrations.RunSQL(ANEW, migrations.RunSQL.noop)]
