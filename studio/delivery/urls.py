from django.urls import path

from studio.delivery import views

urlpatterns = [
    path("sessions/<int:pk>/deliver/song.mid", views.song, name="deliver-song"),
    path("sessions/<int:pk>/deliver/part/<int:part>.wav", views.part_wav, name="deliver-part"),
    path("sessions/<int:pk>/deliver/loop.wav", views.loop_wav, name="deliver-loop"),
    path("sessions/<int:pk>/deliver/map.mid", views.midi, name="deliver-midi"),
    path("sessions/<int:pk>/deliver/click.wav", views.click_wav, name="deliver-click"),
    path("sessions/<int:pk>/deliver/beats.csv", views.beats_csv, name="deliver-beats"),
]
