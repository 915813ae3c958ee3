"""Who a request comes from: a person with an account, or whoever followed a link."""

from __future__ import annotations

from contextvars import ContextVar
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from django.contrib.auth.models import User


@dataclass(frozen=True)
class Actor:
    """``user``: of the account; ``links``: keys of the grants whose links this browser has followed."""

    user: User | None
    links: tuple[int, ...] = ()

    @property
    def is_admin(self) -> bool:
        return bool(self.user and self.user.is_superuser)

    @property
    def name(self) -> str:
        """As it stands in the history."""
        return (self.user.get_full_name() or self.user.username) if self.user else "by a link"


#: Of the request that is being answered; None in local mode, where there are no accounts.
current: ContextVar[Actor | None] = ContextVar("current_actor", default=None)
