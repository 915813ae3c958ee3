"""Who may do what with a session, and invitations to the studio."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models
from django.utils import timezone

from studio.accounts.actor import current
from studio.library.models import Session

#: Days for which an invitation can be taken.
_DAYS = 14


def digest_of(token: str) -> str:
    """What is kept of a token: who reads the database cannot use it."""
    return hashlib.sha256(token.encode()).hexdigest()


class Level(models.IntegerChoices):
    """What somebody may do with a session; each includes those before it."""

    LISTEN = 1, "listen"
    DELIVER = 2, "fetch files"
    CORRECT = 3, "correct"
    OWN = 4, "own"


class Grant(models.Model):
    """A person, or whoever has a link, may do something with a session."""

    session = models.ForeignKey(Session, on_delete=models.CASCADE, related_name="grants")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="grants")
    link = models.CharField(max_length=64, blank=True, db_index=True, help_text="SHA-256 of the link's token")
    level = models.PositiveSmallIntegerField(choices=Level.choices)
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["session", "user"], condition=models.Q(user__isnull=False), name="one_grant_a_person"
            )
        ]

    def __str__(self) -> str:
        return f"{self.user or 'a link'}: {Level(self.level).label}"

    @classmethod
    def by_link(cls, session: Session, level: Level) -> str:
        """A new link to a session; returns its token, which is not kept."""
        token = secrets.token_urlsafe(24)
        cls.objects.create(session=session, link=digest_of(token), level=level)
        return token


class Invitation(models.Model):
    """A link by which one person makes an account of their own."""

    token = models.CharField(max_length=64, unique=True, help_text="SHA-256 of it")
    admin = models.BooleanField(default=False)
    words = models.CharField(max_length=200, blank=True, help_text="whom it is for")
    made = models.DateTimeField(auto_now_add=True)
    used = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.words or "an invitation"

    @classmethod
    def new(cls, admin: bool = False, words: str = "") -> str:
        """A new invitation; returns its token, which is not kept."""
        token = secrets.token_urlsafe(24)
        cls.objects.create(token=digest_of(token), admin=admin, words=words[:200])
        return token

    @classmethod
    def open(cls) -> models.QuerySet[Invitation]:
        """Those that can still be taken."""
        return cls.objects.filter(used__isnull=True, made__gt=timezone.now() - timedelta(days=_DAYS))


def first_admin() -> str | None:
    """The token of an invitation to run the studio, where nobody does yet; an earlier one ends."""
    if User.objects.filter(is_superuser=True, is_active=True).exists():
        return None
    Invitation.objects.filter(admin=True, used__isnull=True).delete()
    return Invitation.new(admin=True, words="the first administrator")


def own_new_session(sender: type[Session], instance: Session, created: bool, **kwargs: Any) -> None:
    """Whoever makes a session owns it."""
    actor = current.get()
    if created and actor and actor.user:
        Grant.objects.create(session=instance, user=actor.user, level=Level.OWN)
