from django.apps import AppConfig


class PartsConfig(AppConfig):
    name = "studio.parts"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.parts.part_history import PARTS

        register_piece(PARTS)
