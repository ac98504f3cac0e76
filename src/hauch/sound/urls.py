from django.urls import path

from hauch.sound import views, views_recording

app_name = "sound"
urlpatterns = [
    path("", views.overview, name="overview"),
    path("begin/", views.begin, name="begin"),
    path("sessions/<int:pk>/", views.session, name="session"),
    path("sessions/<int:pk>/rows/", views.rows, name="rows"),
    path("sessions/<int:pk>/microphone/", views.microphone, name="microphone"),
    path("sessions/<int:pk>/files/", views.hand_in, name="hand_in"),
    path("sessions/<int:pk>/allow/", views.allow, name="allow"),
    path("sessions/<int:pk>/confirm/", views.confirm, name="confirm"),
    path("runs/<int:pk>/", views_recording.of_run, name="of_run"),
    path("<int:pk>/", views_recording.recording, name="recording"),
    path("<int:pk>/grid/", views_recording.grid, name="grid"),
    path("<int:pk>/copy.flac", views_recording.copy, name="copy"),
    path("<int:pk>/file/", views_recording.original, name="file"),
    path("<int:pk>/stretch/", views_recording.stretch, name="stretch"),
    path("<int:pk>/count/", views_recording.count, name="count"),
    path("<int:pk>/again/", views_recording.again, name="again"),
    path("<int:pk>/stop/", views_recording.stop, name="stop"),
    path("<int:pk>/take-out/", views_recording.take_out, name="take_out"),
]
