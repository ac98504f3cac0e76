from django.urls import path

from hauch.practice import views

app_name = "practice"
urlpatterns = [path("", views.practice, name="practice")]
