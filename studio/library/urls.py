from django.urls import path

from studio.library import views

urlpatterns = [
    path("", views.library, name="library"),
    path("sessions/new", views.create, name="session-new"),
    path("sessions/<int:pk>", views.session, name="session"),
    path("bin/<int:pk>", views.binned, name="binned"),
    path("sessions/<int:pk>/uploads", views.upload, name="upload"),
    path("uploads/<int:pk>", views.upload_part, name="upload-part"),
    path("tracks/<int:pk>", views.track, name="track"),
]
