from django.urls import path

from studio.desk import doubt_views, lean_views, mark_views, outside_maps, version_views, views, waveform_views

urlpatterns = [
    path("sessions/<int:pk>/desk", views.desk, name="desk"),
    path("sessions/<int:pk>/facts", views.session_facts, name="facts"),
    path("sessions/<int:pk>/map", views.the_map, name="map"),
    path("sessions/<int:pk>/edit", views.edit, name="edit"),
    path("sessions/<int:pk>/undo", views.undo_redo, name="undo-redo"),
    path("sessions/<int:pk>/panel/<slug:stage>", views.panel, name="panel"),
    path("sessions/<int:pk>/find", views.find, name="find"),
    path("sessions/<int:pk>/options", views.options, name="options"),
    path("sessions/<int:pk>/outside-map", outside_maps.bring, name="outside-map"),
    path("sessions/<int:pk>/outside-map/take", outside_maps.take, name="outside-map-take"),
    path("sessions/<int:pk>/guides", views.guides, name="guides"),
    path("sessions/<int:pk>/doubts", doubt_views.doubts, name="doubts"),
    path("sessions/<int:pk>/marks", mark_views.marks, name="marks"),
    path("sessions/<int:pk>/mark", mark_views.mark, name="mark"),
    path("sessions/<int:pk>/version", version_views.name_version, name="version"),
    path("sessions/<int:pk>/compare/<int:step>", version_views.compare, name="compare"),
    path("sessions/<int:pk>/fold/<int:track>", waveform_views.folded, name="fold"),
    path("sessions/<int:pk>/lean", lean_views.view, name="lean"),
    path("sessions/<int:pk>/lean.csv", lean_views.table, name="lean-table"),
    path("sessions/<int:pk>/lay-out", views.lay_out_tracks, name="lay-out"),
    path("tracks/<int:pk>/apart", views.take_apart, name="take-apart"),
    path("tracks/<int:pk>/attacks", waveform_views.track_attacks, name="attacks"),
    path("tracks/<int:pk>/peaks/<int:level>/<int:tile>", waveform_views.peaks_tile, name="peaks"),
    path("tracks/<int:pk>/samples/<int:tile>", waveform_views.samples_tile, name="samples"),
]
