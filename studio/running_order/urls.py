from django.urls import path

from studio.running_order import views

urlpatterns = [
    path("sessions/<int:pk>/order", views.order, name="order"),
    path("sessions/<int:pk>/order/pane", views.pane, name="order-pane"),
    path("sessions/<int:pk>/order/add", views.add, name="order-add"),
    path("turns/<int:pk>", views.change, name="turn"),
]
