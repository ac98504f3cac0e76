from django.urls import path

from hauch.plan import views, views_house, views_out, views_prints

app_name = "plan"
urlpatterns = [
    path("", views.plan, name="plan"),
    path("state/<uuid:uid>/", views.state, name="state"),
    path("ask/", views.ask, name="ask"),
    path("stop/<uuid:uid>/", views.stop, name="stop"),
    path("steps/<int:pk>/", views.step, name="step"),
    path("steps/<int:pk>/pin/", views.pin, name="pin"),
    path("steps/<int:pk>/want/", views.want, name="want"),
    path("steps/<int:pk>/forget/", views.forget, name="forget"),
    path("out/", views.out, name="out"),
    path("out/<int:pk>/back/", views.back, name="back"),
    path("prints/", views_prints.prints, name="prints"),
    path("prints/labels/", views_prints.labels, name="labels"),
    path("prints/spools/", views_prints.spool, name="spool"),
    path("prints/prototype/", views_prints.prototype, name="prototype"),
    path("prints/first/<int:pk>/", views_prints.try_first, name="try_first"),
    path("parts/", views_prints.parts, name="parts"),
    path("parts/stock/", views_prints.stock, name="stock"),
    path("parts/parts.csv", views_prints.parts_table, name="parts_table"),
    path("house/", views_house.house, name="house"),
    path("house/hours/<int:pk>/", views_house.hours, name="hours"),
    path("house/quiet/", views_house.quiet, name="quiet"),
    path("house/deadlines/", views_house.deadlines, name="deadlines"),
    path("house/machines/new/", views_house.machine, name="new_machine"),
    path("house/machines/<int:pk>/", views_house.machine, name="machine"),
    path("plan.ics", views_out.calendar, name="calendar"),
    path("plan.csv", views_out.table, name="table"),
    path("plan.pdf", views_out.sheet, name="sheet"),
]
