from django.apps import AppConfig


class PlaybackConfig(AppConfig):
    name = "studio.playback"
