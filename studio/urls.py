"""The studio's addresses, app by app."""

from django.urls import include, path

from studio.server.health import health

urlpatterns = [
    path("", include("studio.library.urls")),
    path("", include("studio.jobs.urls")),
    path("", include("studio.reshaping.urls")),
    path("", include("studio.desk.urls")),
    path("", include("studio.playback.urls")),
    path("", include("studio.recording.urls")),
    path("", include("studio.parts.urls")),
    path("", include("studio.harmony.urls")),
    path("", include("studio.running_order.urls")),
    path("", include("studio.delivery.urls")),
    path("", include("studio.archives.urls")),
    path("", include("studio.accounts.urls")),
    path("", include("studio.manual.urls")),
    path("health", health, name="health"),
]

handler400 = "studio.server.failures.bad_request"
handler403 = "studio.server.failures.forbidden"
handler404 = "studio.server.failures.not_found"
handler500 = "studio.server.failures.failed"
