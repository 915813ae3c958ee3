from django.apps import AppConfig


class RunningOrderConfig(AppConfig):
    name = "studio.running_order"
    label = "running"  # its tables were made under this name

    def ready(self) -> None:
        from studio.histories import register_piece
        from studio.running_order.models import ORDER

        register_piece(ORDER)
