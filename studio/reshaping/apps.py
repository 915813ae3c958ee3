from django.apps import AppConfig


class ReshapingConfig(AppConfig):
    name = "studio.reshaping"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.jobs.registry import register
        from studio.reshaping.wanted import RESHAPING_PIECE
        from studio.reshaping.work import KIND

        register(KIND)
        register_piece(RESHAPING_PIECE)
