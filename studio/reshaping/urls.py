from django.urls import path

from studio.reshaping import views

urlpatterns = [
    path("sessions/<int:pk>/reshape", views.change, name="reshape"),
    path("sessions/<int:pk>/reshape/map", views.import_map, name="reshape-map"),
    path("sessions/<int:pk>/reshape/state", views.state, name="reshape-state"),
    path("sessions/<int:pk>/reshape/link", views.link_takes, name="reshape-link"),
    path("sessions/<int:pk>/reshape/link-tracks", views.link_two_tracks, name="reshape-link-tracks"),
    path("sessions/<int:pk>/reshape/bring", views.bring_tracks, name="reshape-bring"),
    path("sessions/<int:pk>/reshape/write", views.write_tracks, name="reshape-write"),
    path("sessions/<int:pk>/reshape/tracks/<str:name>", views.download_one, name="reshape-file"),
    path("sessions/<int:pk>/reshape/tracks.zip", views.download, name="reshape-download"),
]
