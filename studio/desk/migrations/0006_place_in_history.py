"""Each step knows how many lie before it, so that an edit need not read the whole history to say where it stands."""

from django.db import migrations, models


def count_steps(apps, schema_editor):
    step_of = apps.get_model("desk", "MapStep").objects.using(schema_editor.connection.alias)
    places = {}
    steps = list(step_of.order_by("pk").only("pk", "before_id"))
    for step in steps:  # a step is younger than the one before it
        step.place = places[step.pk] = places[step.before_id] + 1 if step.before_id else 0
    step_of.bulk_update(steps, ["place"], batch_size=500)


class Migration(migrations.Migration):
    dependencies = [("desk", "0005_mark_colour")]

    operations = [
        migrations.AddField(
            model_name="mapstep",
            name="place",
            field=models.PositiveIntegerField(default=0, help_text="how many steps lie before it"),
        ),
        migrations.RunPython(count_steps, migrations.RunPython.noop),
    ]
