from django.apps import AppConfig


class ServerConfig(AppConfig):
    """The commands that serve the studio and make the demo."""

    name = "studio.server"
