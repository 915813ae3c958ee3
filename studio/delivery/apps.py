from django.apps import AppConfig


class DeliveryConfig(AppConfig):
    name = "studio.delivery"

    def ready(self) -> None:
        from studio.delivery.companions import write_click_and_parts
        from studio.delivery.writing_bundles import KINDS
        from studio.jobs.registry import register
        from studio.reshaping.work import register_companion

        register_companion(write_click_and_parts)
        for kind in KINDS:
            register(kind)
