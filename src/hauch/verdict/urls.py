from django.urls import path

from hauch.verdict import views

app_name = "verdict"
urlpatterns = [
    path("", views.standing, name="standing"),
    path("publish/", views.publish, name="publish"),
    path("v<int:number>/<int:entry_pk>/<slug:test_key>/", views.cell, name="cell"),
]
