from django.urls import path

from hauch.verdict import views, views_reference

app_name = "verdict"
urlpatterns = [
    path("", views.standing, name="standing"),
    path("reference/", views_reference.care, name="care"),
    path("reference/change/", views_reference.change, name="change_reference"),
    path("publish/", views.publish, name="publish"),
    path("v<int:number>/<int:entry_pk>/<slug:test_key>/", views.cell, name="cell"),
]
