"""Tracks say by which version they were analysed; what a search found is a row of the analysis app."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0005_usual_tempo_range"), ("analysis", "0002_from_sessions")]

    operations = [
        migrations.RenameField("track", "heard", "analysed"),
        migrations.AlterField(
            "track",
            "analysed",
            models.BooleanField(default=False, help_text="peaks, evidence and attacks are on disk"),
        ),
        migrations.AddField(
            "track",
            "features_version",
            models.PositiveIntegerField(default=0, help_text="version of the analysis on disk"),
        ),
        migrations.RemoveField("session", "finding"),
    ]
