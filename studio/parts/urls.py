from django.urls import path

from studio.parts import rolling, score, views

urlpatterns = [
    path("sessions/<int:pk>/parts", views.drawn, name="parts"),
    path("sessions/<int:pk>/parts/panel", views.panel, name="parts-panel"),
    path("sessions/<int:pk>/parts/pattern", views.lay_pattern, name="parts-pattern"),
    path("sessions/<int:pk>/parts/empty", views.empty, name="parts-empty"),
    path("sessions/<int:pk>/parts/bring", views.bring, name="parts-bring"),
    path("sessions/<int:pk>/parts/take-over", views.take_over, name="parts-take-over"),
    path("sessions/<int:pk>/parts/loop", views.bring_loop, name="parts-loop"),
    path("sessions/<int:pk>/parts/record", views.record, name="parts-record"),
    path("sessions/<int:pk>/parts/simulated", views.simulated, name="parts-simulated"),
    path("sessions/<int:pk>/score", score.view, name="score"),
    path("sessions/<int:pk>/score.musicxml", score.document, name="score-document"),
    path("parts/<int:pk>", views.part, name="part"),
    path("parts/<int:pk>/roll", rolling.the_roll, name="part-roll"),
    path("parts/<int:pk>/act", views.act, name="part-act"),
]
