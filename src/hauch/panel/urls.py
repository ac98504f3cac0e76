from django.urls import path

from hauch.panel import views

app_name = "panel"
urlpatterns = [
    path("rounds/<slug:slug>/panel/tests/<int:test_pk>/", views.begin, name="begin"),
    path("rounds/<slug:slug>/panel/<int:pk>/", views.sitting, name="sitting"),
    path("rounds/<slug:slug>/panel/<int:pk>/judges/<int:judge_pk>/", views.new_link, name="link"),
    path(
        "rounds/<slug:slug>/panel/<int:pk>/samples/<int:sample_pk>/",
        views.add_picture,
        name="add_picture",
    ),
    path("rounds/<slug:slug>/panel/<int:pk>/close/", views.close, name="close"),
    path("panel/<str:secret>/", views.judge, name="judge"),
    path("panel/<str:secret>/pictures/<int:pk>.jpg", views.picture, name="picture"),
]
