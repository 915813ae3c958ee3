from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "studio.library"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.library.pieces import SETTINGS, TRACKS

        register_piece(SETTINGS)
        register_piece(TRACKS)
