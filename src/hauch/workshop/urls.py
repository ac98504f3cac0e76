from django.urls import path

from hauch.workshop import views

app_name = "workshop"
urlpatterns = [
    path("", views.specimen_list, name="list"),
    path("add/", views.add, name="add"),
    path("<int:pk>/", views.specimen, name="specimen"),
    path("<int:pk>/move/", views.move, name="move"),
    path("<int:pk>/gate/", views.gate, name="gate"),
    path("<int:pk>/label/", views.label, name="label"),
    path("<int:pk>/<slug:what>/", views.change, name="change"),
]
