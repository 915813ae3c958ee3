from django.apps import AppConfig


class RunningOrderConfig(AppConfig):
    name = "studio.running_order"
    label = "running"  # its tables were made under this name
