from django.urls import path

from studio.library import receiving, views

urlpatterns = [
    path("", views.library, name="library"),
    path("sessions/new", views.create, name="session-new"),
    path("sessions/<int:pk>", views.session, name="session"),
    path("bin/<int:pk>", views.binned, name="binned"),
    path("sessions/<int:pk>/uploads", receiving.announce, name="upload"),
    path("uploads/<int:pk>", receiving.part, name="upload-part"),
    path("uploads/<int:pk>/finish", receiving.finish, name="upload-finish"),
    path("tracks/<int:pk>", views.track, name="track"),
]
