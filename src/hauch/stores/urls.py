from django.urls import path

from hauch.stores import views, views_materials

app_name = "stores"
urlpatterns = [
    path("", views.stores, name="stores"),
    path("rigs/new/", views.new_rig, name="new_rig"),
    path("rigs/drawing/<slug:kind>/", views.rig_drawing_now, name="rig_drawing"),
    path("rigs/<int:pk>/", views.rig, name="rig"),
    path("rigs/<int:pk>/change/", views.change_rig, name="change_rig"),
    path("rigs/<int:pk>/calibrate/<slug:kind>/", views.calibrate_rig, name="calibrate_rig"),
    path("instruments/new/", views.new_instrument, name="new_instrument"),
    path("instruments/<int:pk>/", views.instrument, name="instrument"),
    path("instruments/<int:pk>/change/", views.change_instrument, name="change_instrument"),
    path("instruments/<int:pk>/ask/", views.ask, name="ask_instrument"),
    path("instruments/<int:pk>/calibrate/", views.calibrate, name="calibrate"),
    path(
        "calibrations/<int:pk>/withdraw/", views.withdraw_calibration, name="withdraw_calibration"
    ),
    path("references/new/", views.new_reference, name="new_reference"),
    path("references/<int:pk>/note/", views.note_reference, name="note_reference"),
    path("materials/new/", views_materials.new_material, name="new_material"),
    path("materials/<int:pk>/", views_materials.material, name="material"),
    path("pictures/<slug:sha256>.jpg", views.picture, name="picture"),
]
