from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "studio.accounts"

    def ready(self) -> None:
        from django.db.models.signals import post_save

        from studio.accounts.models import own_new_session
        from studio.library.models import Session

        post_save.connect(own_new_session, sender=Session)
