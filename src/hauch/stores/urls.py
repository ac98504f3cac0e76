from django.urls import path

from hauch.stores import views

app_name = "stores"
urlpatterns = [path("", views.stores, name="stores")]
