from django.urls import path

from hauch.season import views

app_name = "season"
urlpatterns = [
    path("", views.seasons, name="seasons"),
    path("<slug:slug>/", views.season, name="season"),
    path("<slug:slug>/rounds/", views.put_in, name="put_in"),
    path("<slug:slug>/rounds/<int:pk>/out/", views.take_out, name="take_out"),
    path("<slug:slug>/champion/", views.carry_on, name="carry_on"),
]
