from django.urls import path

from studio.jobs import views

urlpatterns = [
    path("queue", views.queue, name="queue"),
    path("queue/steer", views.steer, name="queue-steer"),
    path("sessions/<int:pk>/jobs", views.jobs, name="jobs"),
    path("jobs/<int:pk>/cancel", views.stop, name="job-cancel"),
    path("jobs/<int:pk>/retry", views.retry, name="job-retry"),
    path("jobs/<int:pk>/dismiss", views.dismiss, name="job-dismiss"),
]
