"""From when to when the chunks of before reach: the first and the last time of the chunk of times with the same number."""

import struct

from django.db import migrations


def fill(apps, schema_editor):
    """Raw data stays: only what is said of it is written."""
    Chunk = apps.get_model("bench", "Chunk")
    with schema_editor.connection.cursor() as cursor:
        cursor.execute("alter table bench_chunk disable trigger append_only")
        times = Chunk.objects.filter(channel="time").values_list("recording", "seq", "data")
        for recording, seq, data in times.iterator(chunk_size=100):
            first, last = struct.unpack("<d", data[:8])[0], struct.unpack("<d", data[-8:])[0]
            cursor.execute(
                "update bench_chunk set from_s = %s, to_s = %s where recording_id = %s and seq = %s",
                [first, last, recording, seq],
            )
        cursor.execute("alter table bench_chunk enable trigger append_only")


class Migration(migrations.Migration):
    dependencies = [("bench", "0010_traces_by_stretch")]

    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
