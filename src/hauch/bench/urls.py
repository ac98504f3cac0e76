from django.urls import path

from hauch.bench import views, views_import, views_live, views_run

app_name = "bench"
urlpatterns = [
    path("", views.overview, name="overview"),
    path("pick/", views.pick, name="pick"),
    path("tests/<int:test_pk>/", views.capture, name="capture"),
    path("tests/<int:test_pk>/dnf/", views.dnf, name="dnf"),
    path("runs/<int:pk>/", views_run.run_page, name="run"),
    path("runs/<int:pk>/void/", views_run.void, name="void"),
    path("runs/<int:pk>/exclude/", views_run.exclude, name="exclude"),
    path("runs/<int:pk>/exclude/<int:exclusion_pk>/restore/", views_run.restore, name="restore"),
    path("runs/<int:pk>/observe/", views_run.observe, name="observe"),
    path("tests/<int:test_pk>/live/", views_live.start, name="live_start"),
    path("live/<int:pk>/", views_live.page, name="live"),
    path("live/<int:pk>/stream/", views_live.stream, name="live_stream"),
    path("live/<int:pk>/guide/", views_live.guide_part, name="live_guide"),
    path("live/<int:pk>/step/", views_live.step, name="live_step"),
    path("live/<int:pk>/throttle/", views_live.throttle, name="live_throttle"),
    path("live/<int:pk>/take/", views_live.take, name="live_take"),
    path("live/<int:pk>/undo/", views_live.undo, name="live_undo"),
    path("live/<int:pk>/setting/", views_live.setting, name="live_setting"),
    path("live/<int:pk>/note/", views_live.note, name="live_note"),
    path("live/<int:pk>/accept/", views_live.accept, name="live_accept"),
    path("live/<int:pk>/end/", views_live.end, name="live_end"),
    path("live/<int:pk>/dnf/", views_live.give_up, name="live_dnf"),
    path("imports/<int:pk>/", views_import.importing, name="importing"),
    path("files/", views_import.upload, name="upload"),
    path("files/<slug:sha256>/", views_import.preview, name="preview"),
]
