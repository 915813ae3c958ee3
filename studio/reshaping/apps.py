from typing import Any

from django.apps import AppConfig


class ReshapingConfig(AppConfig):
    name = "studio.reshaping"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.jobs.registry import register, register_state
        from studio.reshaping.takes import BRING_KIND, LINK_KIND
        from studio.reshaping.track_takes import LINK_TRACKS_KIND
        from studio.reshaping.wanted import RESHAPING_PIECE
        from studio.reshaping.work import KIND

        for kind in (KIND, LINK_KIND, LINK_TRACKS_KIND, BRING_KIND):
            register(kind)
        register_piece(RESHAPING_PIECE)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """Which result was written as files last."""
    from studio.reshaping.files import written

    return {"written": written(session)}
