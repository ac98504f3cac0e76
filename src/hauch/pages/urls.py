from django.urls import path

from hauch.pages import entry, home, references, rules, scatter

urlpatterns = [
    path("", home.home, name="home"),
    path("attention/", home.attention, name="attention"),
    path("on-now/", home.on_now, name="on_now"),
    path("plan-now/", home.plan_now, name="plan_now"),
    path("search/", home.search, name="search"),
    path("stores/references/<int:pk>/", references.specimen, name="reference"),
    path("rounds/<slug:slug>/brief/rules/", rules.change, name="change_rules"),
    path("rounds/<slug:slug>/scatter/", scatter.round_scatter, name="round_scatter"),
    path("stores/rigs/<int:pk>/scatter/", scatter.rig_scatter, name="rig_scatter"),
    path("rounds/<slug:slug>/entries/<int:pk>/", entry.entry, name="entry"),
    path("rounds/<slug:slug>/entries/<int:pk>/report/", entry.report, name="entry_report"),
    path("rounds/<slug:slug>/verdict/reference/", references.care, name="care"),
    path(
        "rounds/<slug:slug>/verdict/reference/change/", references.change, name="change_reference"
    ),
]
