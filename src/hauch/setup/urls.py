from django.urls import path

from hauch.setup import views

app_name = "setup"
urlpatterns = [
    path("", views.begin, name="begin"),
    path("<int:pk>/discard/", views.discard, name="discard"),
    path("<int:pk>/<slug:step>/", views.step, name="step"),
]
