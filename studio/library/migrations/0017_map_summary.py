from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0016_sound")]

    operations = [
        migrations.RenameField("session", "told", "map_summary"),
        migrations.AlterField(
            "session",
            "map_summary",
            models.JSONField(default=dict, help_text="tempo, meter, bars of the step ``summarised``, for lists"),
        ),
    ]
