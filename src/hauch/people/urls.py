from django.contrib.auth.views import LoginView, LogoutView
from django.urls import path

from hauch.people import views

app_name = "people"
urlpatterns = [
    path("", views.person, name="person"),
    path(
        "login/",
        LoginView.as_view(template_name="people/login.html", redirect_authenticated_user=True),
        name="login",
    ),
    path("logout/", LogoutView.as_view(), name="logout"),
]
