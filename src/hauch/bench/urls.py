from django.urls import path

from hauch.bench import views, views_import, views_run, views_soak

app_name = "bench"
urlpatterns = [
    path("", views.overview, name="overview"),
    path("pick/", views.pick, name="pick"),
    path("tests/<int:test_pk>/", views.capture, name="capture"),
    path("form/", views.form_to_print, name="form"),
    path("next/<int:specimen_pk>/", views.next_run, name="next"),
    path("tests/<int:test_pk>/soak/", views_soak.soak, name="soak"),
    path("tests/<int:test_pk>/settings/", views.settings, name="settings"),
    path("tests/<int:test_pk>/setting/", views.add_setting, name="add_setting"),
    path("tests/<int:test_pk>/dnf/", views.dnf, name="dnf"),
    path("runs/<int:pk>/", views_run.run_page, name="run"),
    path("runs/<int:pk>/void/", views_run.void, name="void"),
    path("runs/<int:pk>/exclude/", views_run.exclude, name="exclude"),
    path("runs/<int:pk>/exclude/<int:exclusion_pk>/restore/", views_run.restore, name="restore"),
    path("runs/<int:pk>/observe/", views_run.observe, name="observe"),
    path("imports/<int:pk>/", views_import.importing, name="importing"),
    path("recordings/<int:pk>/feed/", views_import.feed, name="feed"),
    path("recordings/<int:pk>/take-out/", views_import.take_out, name="take_out"),
    path("files/", views_import.upload, name="upload"),
    path("files/<slug:sha256>/", views_import.preview, name="preview"),
]
