from django.urls import path

from studio.accounts import views

urlpatterns = [
    path("login", views.Login.as_view(), name="login"),
    path("logout", views.Logout.as_view(), name="logout"),
    path("password", views.Password.as_view(), name="password"),
    path("password/<str:uidb64>/<str:token>", views.NewPassword.as_view(), name="new-password"),
    path("invitation/<str:token>", views.invited, name="invited"),
    path("link/<str:token>", views.by_link, name="by-link"),
    path("people", views.people, name="people"),
    path("sessions/<int:pk>/share", views.share, name="share"),
]
