from django.urls import path

from hauch.desk import views, views_handing, views_next, views_record, views_search

app_name = "desk"
urlpatterns = [
    path("specimens/<int:pk>/", views_handing.as_measured, name="as_measured"),
    path("", views.index, name="index"),
    path("record/", views_record.record, name="record"),
    path("designers/<int:pk>/", views_record.designer, name="designer"),
    path("entries/<int:pk>/", views_record.entry, name="entry"),
    path("entries/<int:pk>/next/", views_next.change, name="next"),
    path("entries/<int:pk>/next/begin/", views_next.begin, name="begin_next"),
    path("measured/<int:pk>/withdraw/", views_handing.withdraw, name="withdraw_measured"),
    path("files/<int:pk>/", views_handing.part_file, name="part_file"),
    path("searches/<uuid:uid>/", views_search.search, name="search"),
    path("searches/<uuid:uid>/stop/", views_search.stop, name="stop_search"),
    path("<slug:tool>/", views.tool, name="tool"),
    path("<slug:tool>/working/<slug:figure>/", views.working, name="working"),
    path("<slug:tool>/file/<slug:kind>/", views.file, name="file"),
    path("<slug:tool>/print/", views.preview, name="preview"),
    path("<slug:tool>/save/", views_handing.save, name="save"),
    path("<slug:tool>/delete/", views_handing.delete, name="delete"),
    path("<slug:tool>/load/", views_handing.load, name="load"),
    path("<slug:tool>/entry/", views_handing.entry, name="to_entry"),
    path("<slug:tool>/measured/", views_handing.measured, name="measured"),
    path("<slug:tool>/search/", views_search.start, name="start_search"),
]
