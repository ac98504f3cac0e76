"""A person's own page, signing in, passwords, and the keeper's list of people."""

from __future__ import annotations

import base64
from typing import Any

import segno
from django.contrib import messages
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.forms import (
    AuthenticationForm,
    PasswordChangeForm,
    PasswordResetForm,
    SetPasswordForm,
)
from django.contrib.auth.views import (
    LoginView,
    PasswordChangeView,
    PasswordResetConfirmView,
    PasswordResetView,
)
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse_lazy
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.people import second, sessions
from hauch.people.forms import LinkByMailForm, MailForm, NewPasswordForm, UnitsForm
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
        "second": second.app_of(request.user),
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

    def form_valid(self, form: AuthenticationForm) -> HttpResponse:
        """Ask for the code of whoever has a second factor; else they are signed in."""
        user = form.get_user()
        if isinstance(user, User) and second.app_of(user) is not None:
            second.wait_for(self.request.session, user, self.get_success_url())
            return redirect("people:second_step")
        return super().form_valid(form)


@login_not_required
def second_step(request: HttpRequest) -> HttpResponse:
    """The code after the password."""
    waiting = second.waited_for(request.session)
    if waiting is None:
        messages.error(request, "The password was too long ago. Sign in again.")
        return redirect("people:login")
    user, then = waiting
    problem = ""
    if request.method == "POST":
        if second.right(user, request.POST.get("code", "")):
            del request.session[second.WAITS]
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
            if (left := second.left_on_paper(user)) < FEW_ON_PAPER:
                messages.warning(request, f"{left} codes on paper are left. Make new ones soon.")
            return redirect(then)
        problem = (
            "This code is not right, or came too soon after a wrong one. Type the one that the app"
            " shows now, or one of those on paper."
        )
    context = {"problem": problem}
    return render(request, "people/second_step.html", context, status=422 if problem else 200)


FEW_ON_PAPER = 3


def second_factor(request: Request) -> HttpResponse:
    """One's second factor: set it up, see what is left on paper, turn it off."""
    problem, paper, user = "", [], request.user
    if request.method == "POST":
        code = request.POST.get("code", "")
        try:
            if request.POST.get("do") == "off":
                second.end(user, code)
                messages.success(request, "The second factor is off.")
                return redirect("people:person")
            paper = second.confirm(user, code)
        except ValidationError as refused:
            problem = " ".join(refused.messages)
    on = second.app_of(user)
    context = {
        "on": on,
        "paper": paper,
        "problem": problem,
        "left": second.left_on_paper(user),
        "demanded": second.demanded_of(user),
    }
    if on is None:
        device = second.begin(user)
        context["key"] = base64.b32encode(device.bin_key).decode()
        context["code"] = segno.make(device.config_url, error="m").svg_inline(scale=4, light="#fff")
    return render(request, "people/second_factor.html", context, status=422 if problem else 200)


@require_POST
def take_second_off(request: Request, pk: int) -> HttpResponse:
    """Turn the second factor of somebody off who has lost it."""
    someone = get_object_or_404(User, pk=pk)
    second.take_off(request.user, someone)
    messages.success(request, f"{someone} signs in with the password alone.")
    return redirect("people:people")


class ForgottenPassword(PasswordResetView):
    """Have a link for a new password mailed. Whether there is such a person is not told."""

    template_name = "people/forgotten.html"
    form_class = LinkByMailForm
    email_template_name = "people/forgotten_mail.txt"
    subject_template_name = "people/forgotten_subject.txt"
    success_url = reverse_lazy("people:login")

    def form_valid(self, form: PasswordResetForm) -> HttpResponse:
        """Send it where there is one to send to."""
        answer = super().form_valid(form)
        messages.success(
            self.request,
            "If somebody here has this address, a link is on its way. It holds three days.",
        )
        return answer


def mail_address(request: Request) -> HttpResponse:
    """Set the address to which links for a new password go, with the password."""
    form = MailForm(request.POST or None, instance=request.user, request=request)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "The address is kept.")
        return redirect("people:person")
    status = 422 if form.is_bound else 200
    return render(request, "people/mail.html", {"form": form}, status=status)


class ChangePassword(PasswordChangeView):
    """Change one's password; all other sessions end by it."""

    template_name = "people/password.html"
    success_url = reverse_lazy("people:person")
    form_class = NewPasswordForm

    def get_form_kwargs(self) -> dict[str, Any]:
        """Wrong passwords count by where they come from."""
        return super().get_form_kwargs() | {"request": self.request}

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
    page = Paginator(
        rows.prefetch_related("memberships__round", "totpdevice_set"), PEOPLE_PAGE
    ).get_page(request.GET.get("page"))
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
