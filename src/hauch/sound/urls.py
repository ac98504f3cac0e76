from django.urls import include, path

from hauch.sound import views, views_blind, views_listening, views_recording

app_name = "sound"
in_round = [
    path("", views.overview, name="overview"),
    path("begin/", views.begin, name="begin"),
    path("sessions/<int:pk>/", views.session, name="session"),
    path("sessions/<int:pk>/rows/", views.rows, name="rows"),
    path("sessions/<int:pk>/microphone/", views.microphone, name="microphone"),
    path("sessions/<int:pk>/files/", views.hand_in, name="hand_in"),
    path("sessions/<int:pk>/allow/", views.allow, name="allow"),
    path("sessions/<int:pk>/confirm/", views.confirm, name="confirm"),
    path("blind/", views_blind.begin, name="blind"),
    path("blind/<int:pk>/", views_blind.listening, name="listening"),
    path("blind/<int:pk>/close/", views_blind.close, name="close"),
    path("listen/", views_listening.listen, name="listen"),
    path("runs/<int:pk>/", views_recording.of_run, name="of_run"),
    path("runs/<int:pk>/meter/", views_recording.from_meter, name="from_meter"),
    path("<int:pk>/", views_recording.recording, name="recording"),
    path("<int:pk>/grid/", views_recording.grid, name="grid"),
    path("<int:pk>/copy.flac", views_recording.copy, name="copy"),
    path("<int:pk>/file/", views_recording.original, name="file"),
    path("<int:pk>/stretch/", views_recording.stretch, name="stretch"),
    path("<int:pk>/turns/", views_recording.turns, name="turns"),
    path("<int:pk>/count/", views_recording.count, name="count"),
    path("<int:pk>/again/", views_recording.again, name="again"),
    path("<int:pk>/stop/", views_recording.stop, name="stop"),
    path("<int:pk>/take-out/", views_recording.take_out, name="take_out"),
]

urlpatterns = [
    path("rounds/<slug:slug>/sound/", include(in_round)),
    path("listen/<str:secret>/", views_blind.take_part, name="take_part"),
    path("listen/<str:secret>/<int:number>.flac", views_blind.played, name="played"),
]
