from django.urls import path

from hauch.entries import views

app_name = "entries"
urlpatterns = [
    path("", views.entry_list, name="list"),
    path("add/", views.add, name="add"),
    path("<int:pk>/withdraw/", views.withdraw, name="withdraw"),
]
