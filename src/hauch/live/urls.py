from django.urls import path

from hauch.live import views, views_actions, views_stream

app_name = "live"
urlpatterns = [
    path("tests/<int:test_pk>/live/", views.start, name="start"),
    path("live/<int:pk>/", views.page, name="page"),
    path("live/<int:pk>/stream/", views_stream.stream, name="stream"),
    path("live/<int:pk>/guide/", views.guide_part, name="guide"),
    path("live/<int:pk>/here/", views.here, name="here"),
    path("live/<int:pk>/step/", views_actions.step, name="step"),
    path("live/<int:pk>/throttle/", views_actions.throttle, name="throttle"),
    path("live/<int:pk>/take/", views_actions.take, name="take"),
    path("live/<int:pk>/undo/", views_actions.undo, name="undo"),
    path("live/<int:pk>/drop/", views_actions.drop, name="drop"),
    path("live/<int:pk>/setting/", views_actions.setting, name="setting"),
    path("live/<int:pk>/note/", views_actions.note, name="note"),
    path("live/<int:pk>/accept/", views_actions.accept, name="accept"),
    path("live/<int:pk>/end/", views_actions.end, name="end"),
    path("live/<int:pk>/dnf/", views_actions.give_up, name="dnf"),
]
