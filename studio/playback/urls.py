from django.urls import path

from studio.playback import audio_views

urlpatterns = [
    path("sessions/<int:pk>/blocks/<int:number>", audio_views.block, name="block"),
    path("sessions/<int:pk>/attacks", audio_views.attack_starts, name="attack-starts"),
    path("sessions/<int:pk>/click", audio_views.click_track, name="click"),
    path("sessions/<int:pk>/click-style", audio_views.click_style, name="click-style"),
    path("sessions/<int:pk>/count-in", audio_views.count_in, name="count-in"),
]
