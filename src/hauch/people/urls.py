from django.contrib.auth.views import LogoutView
from django.urls import path

from hauch.people import views

app_name = "people"
urlpatterns = [
    path("", views.person, name="person"),
    path("login/", views.SignInView.as_view(), name="login"),
    path("login/code/", views.second_step, name="second_step"),
    path("login/forgotten/", views.ForgottenPassword.as_view(), name="forgotten"),
    path("logout/", LogoutView.as_view(), name="logout"),
    path("password/", views.ChangePassword.as_view(), name="change_password"),
    path("password/<str:uidb64>/<str:token>/", views.SetPassword.as_view(), name="set_password"),
    path("second/", views.second_factor, name="second_factor"),
    path("mail/", views.mail_address, name="mail"),
    path("sessions/end/", views.end_sessions, name="end_sessions"),
    path("sessions/<int:pk>/end/", views.end_sessions, name="end_session"),
    path("all/", views.people, name="people"),
    path("all/<int:pk>/link/", views.password_link, name="password_link"),
    path("all/<int:pk>/second/", views.take_second_off, name="take_second_off"),
    path("all/<int:pk>/active/", views.set_active, name="set_active"),
]
