from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "studio.library"

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.library.pieces import SETTINGS, TRACKS
        from studio.library.splitting import split_into_tracks
        from studio.library.uploads import register_opener

        register_opener(split_into_tracks)
        register_piece(SETTINGS)
        register_piece(TRACKS)
