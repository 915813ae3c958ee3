from django.apps import AppConfig


class ManualConfig(AppConfig):
    name = "studio.manual"
