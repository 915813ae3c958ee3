from typing import Any

from django.apps import AppConfig


class DeskConfig(AppConfig):
    name = "studio.desk"

    def ready(self) -> None:
        from studio.desk import carried_job, find_job
        from studio.desk.history import changed
        from studio.desk.statements import MARKS
        from studio.histories import register_piece, register_recorder
        from studio.jobs.registry import register, register_state

        register(find_job.KIND)
        register(carried_job.KIND)
        register_state(_state)
        register_piece(MARKS)
        register_recorder(changed)


def _state(session: int) -> dict[str, Any]:
    """The map's current step."""
    from studio.library.models import Session

    return {"step": Session.objects.values_list("step_id", flat=True).filter(pk=session).first()}
