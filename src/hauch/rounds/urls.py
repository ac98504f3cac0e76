from django.urls import path

from hauch.rounds import views

app_name = "rounds"
urlpatterns = [path("brief/", views.brief, name="brief")]
