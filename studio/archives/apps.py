from django.apps import AppConfig


class ArchivesConfig(AppConfig):
    name = "studio.archives"

    def ready(self) -> None:
        from studio.archives.jobs import KINDS, bring
        from studio.jobs.registry import register
        from studio.library.uploads import register_opener

        for kind in KINDS:
            register(kind)
        register_opener(bring)
