from django.urls import path

from hauch.live import views

app_name = "live"
urlpatterns = [
    path("tests/<int:test_pk>/live/", views.start, name="start"),
    path("live/<int:pk>/", views.page, name="page"),
    path("live/<int:pk>/stream/", views.stream, name="stream"),
    path("live/<int:pk>/guide/", views.guide_part, name="guide"),
    path("live/<int:pk>/here/", views.here, name="here"),
    path("live/<int:pk>/step/", views.step, name="step"),
    path("live/<int:pk>/throttle/", views.throttle, name="throttle"),
    path("live/<int:pk>/take/", views.take, name="take"),
    path("live/<int:pk>/undo/", views.undo, name="undo"),
    path("live/<int:pk>/drop/", views.drop, name="drop"),
    path("live/<int:pk>/setting/", views.setting, name="setting"),
    path("live/<int:pk>/note/", views.note, name="note"),
    path("live/<int:pk>/accept/", views.accept, name="accept"),
    path("live/<int:pk>/end/", views.end, name="end"),
    path("live/<int:pk>/dnf/", views.give_up, name="dnf"),
]
