from django.db import migrations, models


def widen(apps, schema_editor):
    """Sessions that have the usual range of before get the usual one of now."""
    sessions = apps.get_model("library", "Session").objects.using(schema_editor.connection.alias)
    sessions.filter(slowest=70.0, fastest=180.0).update(slowest=55.0, fastest=215.0)


def narrow(apps, schema_editor):
    sessions = apps.get_model("library", "Session").objects.using(schema_editor.connection.alias)
    sessions.filter(slowest=55.0, fastest=215.0).update(slowest=70.0, fastest=180.0)


class Migration(migrations.Migration):

    dependencies = [
        ('library', '0004_session_music_from_session_music_to_session_steady'),
    ]

    operations = [
        migrations.RunPython(widen, narrow),
        migrations.AlterField(
            model_name='session',
            name='fastest',
            field=models.FloatField(default=215.0),
        ),
        migrations.AlterField(
            model_name='session',
            name='slowest',
            field=models.FloatField(default=55.0, help_text='felt beats a minute'),
        ),
    ]
