from django.urls import path

from hauch.workshop import views

app_name = "workshop"
urlpatterns = [
    path("", views.specimen_list, name="list"),
    path("add/", views.add, name="add"),
    path("<int:pk>/state/", views.set_state, name="state"),
]
