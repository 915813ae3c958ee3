import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [("library", "0005_usual_tempo_range")]

    operations = [
        migrations.CreateModel(
            name="Analysis",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("made", models.DateTimeField(auto_now_add=True)),
                (
                    "features_version",
                    models.PositiveIntegerField(help_text="of the tracks' analyses that it was made from"),
                ),
                ("confidence", models.JSONField(default=list)),
                ("guides", models.JSONField(default=list)),
                ("doubts", models.JSONField(default=list)),
                ("alternatives", models.JSONField(default=list)),
                (
                    "session",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="analyses", to="library.session"
                    ),
                ),
            ],
            options={"ordering": ["pk"], "get_latest_by": "pk"},
        ),
    ]
