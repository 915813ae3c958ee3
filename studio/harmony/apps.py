from typing import Any

from django.apps import AppConfig


class HarmonyConfig(AppConfig):
    name = "studio.harmony"

    def ready(self) -> None:
        from studio.harmony.models import CHORDS_PIECE
        from studio.harmony.work import KIND
        from studio.histories import register_piece
        from studio.jobs.registry import register, register_state

        register(KIND)
        register_piece(CHORDS_PIECE)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """The chords' current step."""
    from studio.harmony.models import Harmony

    return {"chords": Harmony.objects.values_list("step_id", flat=True).filter(session_id=session).first()}
