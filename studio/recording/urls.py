from django.urls import path

from studio.recording import views

urlpatterns = [
    path("sessions/<int:pk>/record", views.pane, name="record"),
    path("sessions/<int:pk>/recordings", views.begin, name="record-begin"),
    path("sessions/<int:pk>/record/cut-off", views.keep_cut_off, name="record-cut-off"),
    path("sessions/<int:pk>/record/rate", views.rate, name="record-rate"),
    path("sessions/<int:pk>/record/punch", views.punch, name="record-punch"),
    path("sessions/<int:pk>/record/loopback", views.loopback, name="record-loopback"),
    path("sessions/<int:pk>/record/tuner", views.tuner, name="record-tuner"),
    path("recordings/<int:pk>", views.samples, name="record-samples"),
    path("recordings/<int:pk>/look", views.look, name="record-look"),
    path("recordings/<int:pk>/end", views.end, name="record-end"),
    path("recordings/<int:pk>/activate", views.activate, name="record-activate"),
    path("simulated-player.wav", views.simulated_player, name="record-simulated"),
]
