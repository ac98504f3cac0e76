from django.urls import path

from hauch.bench import views, views_import

app_name = "bench"
urlpatterns = [
    path("", views.overview, name="overview"),
    path("pick/", views.pick, name="pick"),
    path("tests/<int:test_pk>/", views.capture, name="capture"),
    path("tests/<int:test_pk>/dnf/", views.dnf, name="dnf"),
    path("runs/<int:pk>/", views.run_page, name="run"),
    path("runs/<int:pk>/void/", views.void, name="void"),
    path("files/", views_import.upload, name="upload"),
    path("files/<slug:sha256>/", views_import.preview, name="preview"),
]
