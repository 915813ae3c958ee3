"""What the last search found moves from the session to a row of its own."""

from django.db import migrations


def move(apps, schema_editor):
    Session, Analysis = apps.get_model("library", "Session"), apps.get_model("analysis", "Analysis")
    for session in Session.objects.using(schema_editor.connection.alias).exclude(finding={}).iterator():
        found = session.finding
        for doubt in found.get("doubts", []):
            for remedy in doubt.get("remedies", []):
                edit = remedy.get("edit", {})
                if "reach" in edit:  # a snapping distance then; now how far an edit carries
                    edit["snap_within"] = edit.pop("reach")
        Analysis.objects.using(schema_editor.connection.alias).create(
            session=session,
            features_version=0,
            confidence=found.get("confidence", []),
            guides=found.get("ranks", []),
            doubts=found.get("doubts", []),
            alternatives=found.get("alternatives", []),
        )


class Migration(migrations.Migration):
    dependencies = [("analysis", "0001_initial")]
    operations = [migrations.RunPython(move, migrations.RunPython.noop)]
