from django.urls import path

from studio.archives import views

urlpatterns = [
    path("sessions/<int:pk>/archive", views.pane, name="archive"),
    path("sessions/<int:pk>/archive/make", views.make, name="archive-make"),
    path("sessions/<int:pk>/archive.zip", views.fetch, name="archive-zip"),
]
