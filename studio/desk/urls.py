from django.urls import path

from studio.desk import views

urlpatterns = [
    path("sessions/<int:pk>/desk", views.desk, name="desk"),
    path("sessions/<int:pk>/facts", views.session_facts, name="facts"),
    path("sessions/<int:pk>/map", views.the_map, name="map"),
    path("sessions/<int:pk>/edit", views.edit, name="edit"),
    path("sessions/<int:pk>/travel", views.travel, name="travel"),
    path("sessions/<int:pk>/blocks/<int:number>", views.block, name="block"),
    path("sessions/<int:pk>/click", views.click_track, name="click"),
    path("sessions/<int:pk>/count-in", views.count_in, name="count-in"),
    path("sessions/<int:pk>/panel/<slug:stage>", views.panel, name="panel"),
    path("sessions/<int:pk>/wishes", views.wishes, name="wishes"),
    path("tracks/<int:pk>/peaks/<int:level>/<int:tile>", views.peaks_tile, name="peaks"),
    path("tracks/<int:pk>/samples/<int:tile>", views.samples_tile, name="samples"),
]
