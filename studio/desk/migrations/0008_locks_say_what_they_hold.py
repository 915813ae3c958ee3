"""Locked stretches keep the beats, bars and numbers that they hold: those of the map under them now."""

import json

from django.db import migrations


def fill(apps, schema_editor):
    from core.document import Right
    from core.tempomap import TempoMap

    marks = apps.get_model("desk", "Mark").objects.using(schema_editor.connection.alias)
    for mark in marks.filter(kind="lock").select_related("session__step"):
        step = mark.session.step
        if step is None or not step.map:
            continue
        right = Right.of(TempoMap.from_json(json.loads(step.map)), mark.start, mark.end)
        mark.data = {"seconds": right.seconds, "bars": right.bars, "beats": right.beats}
        mark.save(update_fields=["data"])


class Migration(migrations.Migration):
    dependencies = [("desk", "0007_one_document"), ("library", "0007_one_document")]
    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
