"""A person's own page, signing in, passwords, and the keeper's list of people."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.contrib.auth.forms import PasswordChangeForm, SetPasswordForm
from django.contrib.auth.views import LoginView, PasswordChangeView, PasswordResetConfirmView
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse_lazy
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.people import sessions
from hauch.people.forms import UnitsForm
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.people.requests import Request

PEOPLE_PAGE = 100


def person(request: Request) -> HttpResponse:
    """Units, roles, where one is signed in, signing out."""
    form = UnitsForm(request.POST or None, instance=request.user)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "Figures are shown in these units from now on.")
        return redirect("people:person")
    context = {
        "form": form,
        "memberships": request.user.memberships.select_related("round"),
        "sign_ins": sessions.of(request.user),
        "this": request.session.session_key,
        "zone": timezone.get_current_timezone_name(),
    }
    return render(request, "people/person.html", context)


@require_POST
def end_sessions(request: Request, pk: int | None = None) -> HttpResponse:
    """End one session of one's own, or all others."""
    ended = sessions.end(request.user, but=request.session.session_key, only=pk)
    messages.success(
        request,
        f"{ended} {'session has' if ended == 1 else 'sessions have'} ended."
        if ended
        else "There is no other session of yours.",
    )
    return redirect("people:person")


class SignInView(LoginView):
    """Sign in; closed for a while to a name, or an address, with far too many wrong passwords."""

    template_name = "people/login.html"
    redirect_authenticated_user = True

    def post(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        """Refuse before anything is compared."""
        if sessions.closed(request, request.POST.get("username", "")):
            return render(request, "people/locked.html", status=429)
        return super().post(request, *args, **kwargs)


class ChangePassword(PasswordChangeView):
    """Change one's password; all other sessions end by it."""

    template_name = "people/password.html"
    success_url = reverse_lazy("people:person")

    def form_valid(self, form: PasswordChangeForm) -> HttpResponse:
        """Save it, and go on in this browser alone."""
        user = get_object_or_404(User, username=self.request.user.get_username())
        answer = super().form_valid(form)
        sessions.end(user, but=self.request.session.session_key)
        sessions.remember(User, self.request, user)
        messages.success(self.request, "The password is changed. All other sessions have ended.")
        return answer


class SetPassword(PasswordResetConfirmView):
    """Set a new password by a link from whoever keeps the installation."""

    template_name = "people/password.html"
    success_url = reverse_lazy("people:login")

    def form_valid(self, form: SetPasswordForm[Any]) -> HttpResponse:
        """Save it, and end whatever was signed in with the old one."""
        answer = super().form_valid(form)
        if isinstance(self.user, User):
            sessions.end(self.user)
        messages.success(self.request, "The password is set. Sign in with it.")
        return answer


def people(request: Request) -> HttpResponse:
    """Everybody of this installation, for whoever keeps it."""
    require(request.user, "people.manage")
    query = request.GET.get("q", "").strip()
    rows = User.objects.order_by("username")
    if query:
        rows = rows.filter(username__icontains=query) | rows.filter(first_name__icontains=query)
    page = Paginator(rows.prefetch_related("memberships__round"), PEOPLE_PAGE).get_page(
        request.GET.get("page")
    )
    return render(request, "people/people.html", {"page": page, "query": query})


@require_POST
def password_link(request: Request, pk: int) -> HttpResponse:
    """Make a link by which somebody sets a new password; it is shown once."""
    someone = get_object_or_404(User, pk=pk)
    link = request.build_absolute_uri(sessions.link_for_password(request.user, someone))
    return render(request, "people/password_link.html", {"someone": someone, "link": link})


@require_POST
def set_active(request: Request, pk: int) -> HttpResponse:
    """Close somebody's account, or open it again."""
    require(request.user, "people.manage")
    someone = get_object_or_404(User, pk=pk)
    try:
        if someone.pk == request.user.pk:
            raise ValidationError("You would lock yourself out. Somebody else can close yours.")
        active = request.POST.get("active") == "yes"
        sessions.set_active(request.user, someone, active=active)
        told = "open again" if active else "closed; their sessions have ended"
        messages.success(request, f"{someone}'s account is {told}.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("people:people")


def stale_form(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A form came without its token: it stood open over a sign-in, or cookies are off."""
    return render(request, "people/stale_form.html", status=403)
