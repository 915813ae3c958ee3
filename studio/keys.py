"""Keys of rows that stand in addresses: where a studio is shared, nobody can count from one to the next."""

from __future__ import annotations

import secrets
from typing import Any

from django.conf import settings
from django.db import models

#: The largest step from one key to the next: some four million rows fit below 2^53, up to where JavaScript is exact.
_STEP = 2**31


class Uncountable(models.Model):
    """A row whose key, in shared mode, lies a random step behind the last one: order is kept, neighbours are not told.

    Access is checked all the same (:mod:`studio.accounts`).
    """

    class Meta:
        abstract = True

    def save(self, **kwargs: Any) -> None:
        if settings.SHARED and self._state.adding and self.pk is None:
            manager = type(self)._base_manager
            last = manager.aggregate(last=models.Max("pk"))["last"] or 0
            self.pk = last + 1 + secrets.randbelow(_STEP)
            kwargs["force_insert"] = True
        super().save(**kwargs)
