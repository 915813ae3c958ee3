from typing import Any

from django.apps import AppConfig


class ReshapingConfig(AppConfig):
    name = "studio.reshaping"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.jobs.registry import register, register_state
        from studio.reshaping.wanted import RESHAPING_PIECE
        from studio.reshaping.work import KIND

        register(KIND)
        register_piece(RESHAPING_PIECE)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """Which result was written as files last."""
    from studio.reshaping.files import written

    return {"written": written(session)}
