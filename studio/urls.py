"""The studio's addresses, app by app."""

from django.urls import include, path

urlpatterns = [
    path("", include("studio.library.urls")),
    path("", include("studio.jobs.urls")),
    path("", include("studio.reshaping.urls")),
    path("", include("studio.desk.urls")),
    path("", include("studio.playback.urls")),
    path("", include("studio.parts.urls")),
    path("", include("studio.harmony.urls")),
    path("", include("studio.running_order.urls")),
    path("", include("studio.delivery.urls")),
]
