"""All addresses."""

from django.contrib import admin
from django.urls import include, path

from hauch.verdict.views import entry, published, report
from hauch.verdict.views_reference import specimen
from hauch.verdict.views_rules import change
from hauch.web import health, views

urlpatterns = [
    path("", views.home, name="home"),
    path("attention/", views.attention, name="attention"),
    path("search/", views.search, name="search"),
    path("health/", health.health, name="health"),
    path("person/", include("hauch.people.urls")),
    path("desk/", include("hauch.desk.urls")),
    path("stores/references/<int:pk>/", specimen, name="reference"),
    path("stores/", include("hauch.stores.urls")),
    path("", include("hauch.rounds.urls")),
    path("rounds/<slug:slug>/brief/rules/", change, name="change_rules"),
    path("rounds/<slug:slug>/entries/<int:pk>/", entry, name="entry"),
    path("rounds/<slug:slug>/entries/<int:pk>/report/", report, name="entry_report"),
    path("rounds/<slug:slug>/entries/", include("hauch.entries.urls")),
    path("rounds/<slug:slug>/workshop/", include("hauch.workshop.urls")),
    path("rounds/<slug:slug>/bench/", include("hauch.bench.urls")),
    path("rounds/<slug:slug>/verdict/", include("hauch.verdict.urls")),
    path("published/<slug:slug>/", published, name="published"),
    path("", include("hauch.exchange.urls")),
    path("admin/", admin.site.urls),
]
