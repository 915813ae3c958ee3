from django.apps import AppConfig


class JobsConfig(AppConfig):
    """The queue of long work and its workers."""

    name = "studio.jobs"
