from typing import Any

from django.apps import AppConfig


class AnalysisConfig(AppConfig):
    name = "studio.analysis"

    def ready(self) -> None:
        from studio.analysis.work import KIND
        from studio.jobs.registry import register, register_state

        register(KIND)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """How many tracks there are, and how many are analysed."""
    from studio.library.models import Track

    tracks = Track.objects.filter(session_id=session)
    return {"tracks": tracks.count(), "analysed": tracks.filter(analysed=True).count()}
