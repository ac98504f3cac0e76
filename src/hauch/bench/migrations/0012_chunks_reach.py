from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("bench", "0011_reach_of_chunks")]

    operations = [
        migrations.AlterField("chunk", "from_s", models.FloatField(help_text="s of the recording of its first sample")),
        migrations.AlterField("chunk", "to_s", models.FloatField(help_text="s of the recording of its last sample")),
        migrations.AddConstraint("chunk", models.CheckConstraint(condition=models.Q(to_s__gte=models.F("from_s")), name="chunk_ends_after_it_begins")),
        migrations.AddIndex("chunk", models.Index(fields=["recording", "channel", "from_s"], name="chunk_by_time")),
    ]
