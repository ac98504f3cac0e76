from django.urls import path

from hauch.entries import views, views_parts, views_upload

app_name = "entries"
urlpatterns = [
    path("", views.entry_list, name="list"),
    path("add/", views.add, name="add"),
    path("<int:pk>/withdraw/", views.withdraw, name="withdraw"),
    path("<int:pk>/takes-part/", views.name_version, name="name_version"),
    path("<int:pk>/copy/", views.copy, name="copy"),
    path("<int:pk>/edit/", views.edit, name="edit"),
    path("<int:pk>/versions/add/", views.add_version, name="add_version"),
    path("<int:pk>/compare/", views_parts.compare, name="compare"),
    path("<int:pk>/files/", views.files, name="files"),
    path("<int:pk>/parts/", views_parts.parts, name="parts"),
    path("<int:pk>/parts/<int:file_pk>/", views_parts.part, name="part"),
    path("<int:pk>/parts/<int:file_pk>/check/", views_parts.check, name="check"),
    path("<int:pk>/parts/<int:file_pk>/view.glb", views_parts.turning_view, name="view"),
    path("<int:pk>/parts/<int:file_pk>/still.png", views_parts.still, name="still"),
    path("<int:pk>/parts/<int:file_pk>/working/<slug:key>/", views_parts.working, name="working"),
    path("<int:pk>/parts/<int:file_pk>/<slug:what>/", views_parts.change, name="change_part"),
    path("<int:pk>/upload/", views_upload.begin, name="upload"),
    path("<int:pk>/upload/<uuid:key>/", views_upload.piece, name="piece"),
]
