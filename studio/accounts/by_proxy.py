"""Logging in by a reverse proxy that knows people already (single sign-on)."""

from django.conf import settings
from django.contrib.auth.middleware import PersistentRemoteUserMiddleware


class NamedByProxy(PersistentRemoteUserMiddleware):
    """Whoever the proxy names in its header is logged in; an account is made at the first time."""

    header = "HTTP_" + settings.USER_HEADER.upper().replace("-", "_")
