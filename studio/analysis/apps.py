from typing import Any

from django.apps import AppConfig


class AnalysisConfig(AppConfig):
    name = "studio.analysis"

    def ready(self) -> None:
        from studio.analysis import separate_job, work
        from studio.jobs.registry import register, register_state

        register(work.KIND)
        register(separate_job.KIND)
        register_state(_state)


def _state(session: int) -> dict[str, Any]:
    """How many tracks there are, and how many are analysed."""
    from studio.library.models import Track

    tracks = Track.objects.filter(session_id=session)
    return {"tracks": tracks.count(), "analysed": tracks.filter(analysed=True).count()}
