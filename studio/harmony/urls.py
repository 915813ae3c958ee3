from django.urls import path

from studio.harmony import views

urlpatterns = [
    path("sessions/<int:pk>/chords", views.chords, name="chords"),
    path("sessions/<int:pk>/chords/find", views.find, name="chords-find"),
    path("sessions/<int:pk>/chords/edit", views.edit, name="chords-edit"),
    path("sessions/<int:pk>/chords/panel", views.panel, name="chords-panel"),
    path("sessions/<int:pk>/chords/grain", views.grain, name="chords-grain"),
    path("sessions/<int:pk>/chords/part", views.make_part, name="chords-part"),
    path("parts/<int:pk>/from-chords", views.take_again, name="part-from-chords"),
    path("sessions/<int:pk>/chords.csv", views.table, name="chords-table"),
]
