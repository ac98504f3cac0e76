"""All addresses."""

from django.contrib import admin
from django.contrib.auth.decorators import login_not_required
from django.urls import include, path, reverse_lazy
from django.views.generic import RedirectView

from hauch.site import health, keeper
from hauch.verdict.views import published
from hauch.verdict.views_guessing import take_guess

handler500 = "hauch.site.trace.server_error"
urlpatterns = [
    path("", include("hauch.pages.urls")),
    path("health/", health.health, name="health"),
    path("installation/", keeper.keeper, name="keeper"),
    path("installation/jobs/<int:pk>/", keeper.job, name="keeper_job"),
    path("person/", include("hauch.people.urls")),
    path("desk/", include("hauch.desk.urls")),
    path("", include("hauch.panel.urls")),
    path("practice/", include("hauch.practice.urls")),
    path("set-up/", include("hauch.setup.urls")),
    path("stores/", include("hauch.stores.urls")),
    path("", include("hauch.rounds.urls")),
    path("rounds/<slug:slug>/entries/", include("hauch.entries.urls")),
    path("rounds/<slug:slug>/workshop/", include("hauch.workshop.urls")),
    path("rounds/<slug:slug>/bench/", include("hauch.bench.urls")),
    path("rounds/<slug:slug>/bench/", include("hauch.live.urls")),
    path("", include("hauch.sound.urls")),
    path("plan/", include("hauch.plan.urls")),
    path("seasons/", include("hauch.season.urls")),
    path("rounds/<slug:slug>/verdict/", include("hauch.verdict.urls")),
    path("published/<slug:slug>/", published, name="published"),
    path("guess/<str:secret>/", take_guess, name="guess"),
    path("", include("hauch.exchange.urls")),
    path(
        "admin/login/",
        login_not_required(
            RedirectView.as_view(url=reverse_lazy("people:login"), query_string=True)
        ),
    ),
    path("admin/", admin.site.urls),
]
