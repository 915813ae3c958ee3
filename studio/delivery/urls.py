from django.urls import path

from studio.delivery import views

urlpatterns = [
    path("sessions/<int:pk>/deliver/files", views.files, name="deliver-files"),
    path("sessions/<int:pk>/deliver/bundles", views.bundles, name="deliver-bundles"),
    path("sessions/<int:pk>/deliver/bundles/<slug:name>", views.make_bundle, name="deliver-make"),
    path("sessions/<int:pk>/deliver/bundles/<slug:name>.zip", views.bundle_zip, name="deliver-zip"),
    path("sessions/<int:pk>/deliver/file/<str:key>", views.document, name="deliver-file"),
    path("sessions/<int:pk>/deliver/part/<int:part>.wav", views.part_wav, name="deliver-part"),
    path("sessions/<int:pk>/deliver/loop.wav", views.loop_wav, name="deliver-loop"),
    path("sessions/<int:pk>/deliver/click.wav", views.click_wav, name="deliver-click"),
]
