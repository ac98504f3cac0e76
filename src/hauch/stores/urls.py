from django.urls import path

from hauch.stores import views, views_instruments, views_materials, views_rigs

app_name = "stores"
urlpatterns = [
    path("", views.stores, name="stores"),
    path("rigs/new/", views_rigs.new_rig, name="new_rig"),
    path("rigs/drawing/<slug:kind>/", views_rigs.rig_drawing_now, name="rig_drawing"),
    path("rigs/<int:pk>/", views_rigs.rig, name="rig"),
    path("rigs/<int:pk>/print/<slug:part>.<slug:kind>", views_rigs.tube_file, name="tube_file"),
    path("rigs/<int:pk>/change/", views_rigs.change_rig, name="change_rig"),
    path("rigs/<int:pk>/calibrate/<slug:kind>/", views_rigs.calibrate_rig, name="calibrate_rig"),
    path("instruments/new/", views_instruments.new_instrument, name="new_instrument"),
    path("instruments/<int:pk>/", views_instruments.instrument, name="instrument"),
    path(
        "instruments/<int:pk>/change/",
        views_instruments.change_instrument,
        name="change_instrument",
    ),
    path("instruments/<int:pk>/ask/", views_instruments.ask, name="ask_instrument"),
    path("instruments/<int:pk>/calibrate/", views_instruments.calibrate, name="calibrate"),
    path(
        "calibrations/<int:pk>/withdraw/",
        views_instruments.withdraw_calibration,
        name="withdraw_calibration",
    ),
    path("rigs/<int:pk>/delete/", views.delete_rig, name="delete_rig"),
    path("instruments/<int:pk>/delete/", views.delete_instrument, name="delete_instrument"),
    path("references/new/", views.new_reference, name="new_reference"),
    path("references/<int:pk>/note/", views.note_reference, name="note_reference"),
    path("materials/new/", views_materials.new_material, name="new_material"),
    path("materials/<int:pk>/", views_materials.material, name="material"),
    path("pictures/<slug:sha256>.jpg", views.picture, name="picture"),
]
