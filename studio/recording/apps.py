from typing import Any

from django.apps import AppConfig


class RecordingConfig(AppConfig):
    name = "studio.recording"

    def ready(self) -> None:
        from studio.jobs.registry import register, register_state
        from studio.recording.map_so_far import KIND

        register(KIND)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """What was found of the newest pass while it is still being recorded."""
    from studio.recording.models import Recording

    going = Recording.objects.filter(session_id=session, ended=False).order_by("-pk").first()
    return {"recording": {"id": going.pk, "so_far": going.so_far} if going else None}
