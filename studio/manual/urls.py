from django.urls import path

from studio.manual import views

urlpatterns = [
    path("manual", views.page, name="manual"),
    path("manual/<slug:slug>", views.page, name="manual-page"),
]
