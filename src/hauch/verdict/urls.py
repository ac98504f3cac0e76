from django.urls import path

from hauch.verdict import (
    views,
    views_accepting,
    views_beside,
    views_guessing,
    views_settling,
    views_what_if,
    views_with_without,
)

app_name = "verdict"
urlpatterns = [
    path("", views.standing, name="standing"),
    path("publish/", views.publish, name="publish"),
    path("accept/<int:pk>/", views_accepting.accept, name="accept"),
    path("accept/<int:pk>/criteria/", views_accepting.criteria, name="criteria"),
    path("accept/<int:pk>/v<int:number>/design/", views_accepting.design, name="design"),
    path("accept/<int:pk>/v<int:number>/", views_accepting.decide, name="decide"),
    path("beside/", views_beside.beside, name="beside"),
    path("with-without/", views_with_without.with_without, name="with_without"),
    path("guesses/", views_guessing.guesses, name="guesses"),
    path("guesses/open/", views_guessing.open_guesses, name="open_guesses"),
    path("settle/", views_settling.settling, name="settling"),
    path("settle/ask/", views_settling.ask_for, name="ask"),
    path("settle/bench/", views_settling.to_bench, name="to_bench"),
    path("what-if/", views_what_if.what_if, name="what_if"),
    path("what-if/keep/", views_what_if.keep_scenario, name="keep_scenario"),
    path("what-if/<int:pk>/drop/", views_what_if.drop_scenario, name="drop_scenario"),
    path("v<int:number>/<int:entry_pk>/<slug:test_key>/", views.cell, name="cell"),
]
