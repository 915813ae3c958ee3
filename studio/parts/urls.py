from django.urls import path

from studio.parts import roll_views, score_views, starting, views

urlpatterns = [
    path("sessions/from-song", starting.start_from_song, name="session-from-song"),
    path("sessions/<int:pk>/parts", views.parts_data, name="parts"),
    path("sessions/<int:pk>/parts/panel", views.panel, name="parts-panel"),
    path("sessions/<int:pk>/parts/pattern", views.add_pattern, name="parts-pattern"),
    path("sessions/<int:pk>/parts/sounds", views.sounds, name="parts-sounds"),
    path("sessions/<int:pk>/parts/empty", views.empty, name="parts-empty"),
    path("sessions/<int:pk>/parts/bring", views.import_midi, name="parts-bring"),
    path("sessions/<int:pk>/parts/take-over", views.from_track, name="parts-take-over"),
    path("sessions/<int:pk>/parts/loop", views.import_loop, name="parts-loop"),
    path("sessions/<int:pk>/parts/record", views.record, name="parts-record"),
    path("sessions/<int:pk>/parts/simulated", views.simulated, name="parts-simulated"),
    path("sessions/<int:pk>/score", score_views.view, name="score"),
    path("sessions/<int:pk>/score.musicxml", score_views.document, name="score-document"),
    path("parts/<int:pk>", views.part, name="part"),
    path("parts/<int:pk>/roll", roll_views.the_roll, name="part-roll"),
    path("parts/<int:pk>/act", views.act, name="part-act"),
]
