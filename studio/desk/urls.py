from django.urls import path

from studio.desk import checking, drawn, leaning, played, views

urlpatterns = [
    path("sessions/<int:pk>/desk", views.desk, name="desk"),
    path("sessions/<int:pk>/facts", views.session_facts, name="facts"),
    path("sessions/<int:pk>/map", views.the_map, name="map"),
    path("sessions/<int:pk>/edit", views.edit, name="edit"),
    path("sessions/<int:pk>/travel", views.travel, name="travel"),
    path("sessions/<int:pk>/panel/<slug:stage>", views.panel, name="panel"),
    path("sessions/<int:pk>/wishes", views.wishes, name="wishes"),
    path("sessions/<int:pk>/guides", views.guides, name="guides"),
    path("sessions/<int:pk>/doubts", checking.doubts, name="doubts"),
    path("sessions/<int:pk>/marks", checking.marks, name="marks"),
    path("sessions/<int:pk>/mark", checking.mark, name="mark"),
    path("sessions/<int:pk>/version", checking.name_version, name="version"),
    path("sessions/<int:pk>/compare/<int:step>", checking.compare, name="compare"),
    path("sessions/<int:pk>/blocks/<int:number>", played.block, name="block"),
    path("sessions/<int:pk>/click", played.click_track, name="click"),
    path("sessions/<int:pk>/click-style", played.click_style, name="click-style"),
    path("sessions/<int:pk>/count-in", played.count_in, name="count-in"),
    path("sessions/<int:pk>/fold/<int:track>", drawn.folded, name="fold"),
    path("sessions/<int:pk>/lean", leaning.view, name="lean"),
    path("sessions/<int:pk>/lean.csv", leaning.table, name="lean-table"),
    path("tracks/<int:pk>/attacks", drawn.track_attacks, name="attacks"),
    path("tracks/<int:pk>/peaks/<int:level>/<int:tile>", drawn.peaks_tile, name="peaks"),
    path("tracks/<int:pk>/samples/<int:tile>", drawn.samples_tile, name="samples"),
]
