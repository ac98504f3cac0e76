from django.urls import path

from hauch.rounds import views

app_name = "rounds"
urlpatterns = [
    path("rounds/new/", views.begin, name="begin"),
    path("invitations/<str:secret>/", views.join, name="join"),
    path("rounds/<slug:slug>/brief/", views.brief, name="brief"),
    path("rounds/<slug:slug>/brief/change/", views.change, name="change"),
    path("rounds/<slug:slug>/brief/move/", views.move, name="move"),
    path("rounds/<slug:slug>/brief/envelope/", views.envelope, name="envelope"),
    path(
        "rounds/<slug:slug>/brief/envelope.<slug:kind>", views.envelope_file, name="envelope_file"
    ),
    path("rounds/<slug:slug>/brief/sheet/", views.sheet, name="sheet"),
    path("rounds/<slug:slug>/brief/ask/", views.ask, name="ask"),
    path("rounds/<slug:slug>/brief/questions/<int:pk>/", views.answer, name="answer"),
    path("rounds/<slug:slug>/people/", views.people, name="people"),
    path("rounds/<slug:slug>/people/<int:pk>/role/", views.role, name="role"),
    path("rounds/<slug:slug>/invitations/<int:pk>/revoke/", views.revoke, name="revoke"),
    path("rounds/<slug:slug>/audit/", views.audit, name="audit"),
]
