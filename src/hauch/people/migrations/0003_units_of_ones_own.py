from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('people', '0002_initial'),
    ]

    operations = [
        migrations.RenameField('user', 'units', 'preset'),
        migrations.AddField(
            model_name='user',
            name='own_units',
            field=models.JSONField(blank=True, default=dict, help_text="kind of figure -> unit, where it is not the preset's"),
        ),
    ]
