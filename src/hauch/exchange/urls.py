from django.urls import path

from hauch.exchange import views

app_name = "exchange"
urlpatterns = [
    path("rounds/<slug:slug>/export.zip", views.export_zip, name="zip"),
    path("rounds/<slug:slug>/export.csv", views.export_csv, name="csv"),
    path("import/", views.import_zip, name="import"),
    path("stores/library/", views.library, name="library"),
    path("stores/library/import/", views.import_stores, name="import_library"),
]
