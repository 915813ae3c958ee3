from django.urls import path

from studio.archives import many, views

urlpatterns = [
    path("archives", many.archives, name="archives"),
    path("archives.zip", many.fetch_all, name="archives-zip"),
    path("sessions/<int:pk>/archive", views.pane, name="archive"),
    path("sessions/<int:pk>/archive/make", views.make, name="archive-make"),
    path("sessions/<int:pk>/archive.zip", views.fetch, name="archive-zip"),
]
