"""Chunks say from when to when they reach, minutes are kept by the second, and pieces may go when they have become chunks."""

import django.db.models.deletion
from django.db import migrations, models

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
    dependencies = [("bench", "0009_progress_counted_anew")]

    operations = [
        migrations.AddField("chunk", "from_s", models.FloatField(null=True, help_text="s of the recording of its first sample")),
        migrations.AddField("chunk", "to_s", models.FloatField(null=True, help_text="s of the recording of its last sample")),
        migrations.CreateModel(
            name="Minute",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.IntegerField(help_text="minutes from the start of the recording")),
                ("channels", models.JSONField(help_text="in the order of the data, the first one is time")),
                ("data", models.BinaryField(help_text="64-bit floats of shape (4, channels, 60): number, mean, least, most")),
                ("recording", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="minutes", to="bench.recording")),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("recording", "number"), name="minute_once")]},
        ),
        migrations.RunSQL(RELEASED, "drop function hauch_piece_released()"),
        migrations.RunSQL(
            "drop trigger append_only on bench_piece",
            "create trigger append_only before update or delete on bench_piece for each row execute function hauch_append_only()",
        ),
        migrations.RunSQL(
            "create trigger append_only before update on bench_piece for each row execute function hauch_append_only()",
            "drop trigger append_only on bench_piece",
        ),
        migrations.RunSQL(
            "create trigger released after delete on bench_piece referencing old table as gone for each statement execute function hauch_piece_released()",
            "drop trigger released on bench_piece",
        ),
    ]
