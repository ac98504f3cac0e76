"""The Brief station: begin a round, its brief, envelope and rule sheet, questions, people, audit
trail.
"""

from __future__ import annotations

import itertools
from typing import Any

from django.contrib import messages
from django.contrib.auth import authenticate, login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db import IntegrityError, transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.http import require_POST

from hauch.core.geometry.envelope import Envelope, envelope_drawing, reference_bodies
from hauch.core.quantity.show import show
from hauch.formats import solid
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg
from hauch.people import second
from hauch.people.models import AuditEntry, User
from hauch.people.permissions import ROLES, allowed, require
from hauch.people.requests import Request
from hauch.rounds import actions, invitations
from hauch.rounds.checks import problems_of
from hauch.rounds.forms import (
    BeginForm,
    BriefForm,
    EnvelopeForm,
    InviteForm,
    JoinForm,
    QuestionForm,
)
from hauch.rounds.models import Invitation, Membership, Round, RuleQuestion, TestReference
from hauch.rounds.queries import current_rules, round_for, round_tests, rules_of
from hauch.rounds.sheet import as_agreed, rule_sheet
from hauch.rounds.starts import STARTS
from hauch.ui.fields import sent

AUDIT_PAGE = 50


def begin(request: Request) -> HttpResponse:
    """Begin a round from a usual one."""
    require(request.user, "round.create")
    form = BeginForm(sent(request))
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            round, left_out = actions.begin_round(
                request.user, STARTS[data["start"]], data["title"], data["place"]
            )
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            if left_out:
                messages.warning(
                    request,
                    f"There is no rig yet for: {', '.join(left_out)}. Set it up in Stores, then add"
                    " the test to the rules.",
                )
            return redirect("rounds:change", round.slug)
    return render(
        request,
        "rounds/begin.html",
        {"form": form, "starts": STARTS.values()},
        status=422 if form.is_bound else 200,
    )


def brief(request: Request, slug: str) -> HttpResponse:
    """The question, the envelope, the tests and the rules of a round."""
    round = round_for(request.user, slug)
    tests = round_tests(round)
    rows = (
        TestReference.objects.filter(test__in=tests)
        .select_related("specimen__type")
        .order_by("since")
    )
    specimens = {
        row.specimen_id: {"specimen": row.specimen, "since": row.since, "until": row.until}
        for row in rows
    }
    may_change = allowed(request.user, "round.change", round)
    rules = rules_of(round)
    for version, before in itertools.pairwise(rules):
        version.__dict__["differs"] = actions.differences(before.brief, version.brief)
    context = {
        "round": round,
        "tests": tests,
        "rules": rules,
        "references": list(specimens.values()),
        "may_change": may_change,
        "drawing": picture(round.what, request.user.units),
        "missing": [one.back_to(request.path) for one in problems_of(round)]
        if may_change and round.is_draft
        else [],
        "question_form": QuestionForm(initial={"kind": "question"}),
        "may_ask": allowed(request.user, "rules.ask", round),
        "may_answer": allowed(request.user, "rules.answer", round),
    }
    return render(request, "rounds/brief.html", context)


def picture(envelope: Envelope, units: str, width: float = 780, height: float = 340) -> SafeString:
    """The envelope's drawing, lengths in the person's units."""
    svg = to_svg(
        envelope_drawing(envelope), lambda metres: str(show(metres, "length", units)), width, height
    )
    return mark_safe(svg)  # noqa: S308 the writer escapes every text


def change(request: Request, slug: str) -> HttpResponse:
    """Change the brief."""
    round = round_for(request.user, slug, "round.change")
    form = BriefForm(sent(request), instance=round, units=request.user.units)
    if request.method == "POST" and form.is_valid():
        changed = [name for name in form.changed_data if name not in {"reason", "began"}]
        try:
            with transaction.atomic():
                rules = actions.save_brief(
                    request.user, form.instance, changed, form.cleaned_data.get("reason", "")
                )
        except ValidationError as problem:
            _to_form(form, problem)
        else:
            messages.success(
                request,
                (
                    "The brief is saved."
                    if round.is_draft or rules is None
                    else f"The brief is saved; the rules are at version {rules.number}."
                )
                + form.taken_over_told,
            )
            return redirect("rounds:brief", slug)
    return render(
        request,
        "rounds/change.html",
        {"round": get_object_or_404(Round, slug=slug), "form": form},
        status=422 if form.is_bound else 200,
    )


def _to_form(form: Any, problem: ValidationError) -> None:
    if not hasattr(problem, "error_dict"):
        form.add_error(None, problem.messages)
        return
    for name, errors in problem.error_dict.items():
        form.add_error(name if name in form.fields else None, errors)


def envelope(request: Request, slug: str) -> HttpResponse:
    """The envelope: dimensions beside the drawing, which follows while they are typed and keeps its
    last good state.
    """
    round = round_for(request.user, slug)
    may_change = allowed(request.user, "round.change", round)
    form = EnvelopeForm(
        request.POST if request.method == "POST" else None, round=round, units=request.user.units
    )
    problems: list[str] = []
    shown = round.what
    if request.method == "POST":
        require(request.user, "round.change", round)
        form.is_valid()
        try:
            wanted = form.envelope()
            found = wanted.problems()
            problems = [str(text) for errors in form.errors.values() for text in errors] or list(
                found.values()
            )
            if not problems:
                shown = wanted
                if not request.htmx:
                    with transaction.atomic():
                        actions.save_envelope(
                            request.user, round, wanted, form.cleaned_data.get("reason", "")
                        )
                    messages.success(request, f"The envelope is saved.{form.taken_over_told}")
                    return redirect("rounds:envelope", slug)
        except ValidationError as problem:
            problems = problem.messages
    context = {
        "round": round,
        "form": form,
        "problems": problems,
        "drawing": picture(shown, request.user.units),
        "may_change": may_change,
        "formats": FORMATS,
    }
    if request.htmx:
        return render(request, "rounds/_envelope.html", context)
    return render(request, "rounds/envelope.html", context, status=422 if problems else 200)


FORMATS = {"svg": "image/svg+xml", "dxf": "image/vnd.dxf", "stl": "model/stl", "step": "model/step"}


def envelope_file(request: Request, slug: str, kind: str) -> HttpResponse:
    """The envelope as a drawing (SVG, DXF) or as solids to model against (STL, STEP), in
    millimetres.
    """
    round = round_for(request.user, slug)
    if kind not in FORMATS:
        raise Http404("There is no such format.")
    shown, name = round.what, f"{round.slug}-envelope"
    if problems := shown.problems():
        messages.error(request, next(iter(problems.values())))
        return redirect("rounds:envelope", slug)
    if kind == "svg":
        data = to_svg(
            envelope_drawing(shown), lambda metres: f"{1000 * metres:g} mm", 900, 500, alone=True
        ).encode()
    elif kind == "dxf":
        data = to_dxf(envelope_drawing(shown))
    elif kind == "stl":
        data = solid.to_stl(reference_bodies(shown))
    else:
        data = solid.to_step(reference_bodies(shown), name)
    answer = HttpResponse(data, content_type=FORMATS[kind])
    answer["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return answer


def sheet(request: Request, slug: str) -> HttpResponse:
    """The rule sheet, to be read or printed."""
    round = round_for(request.user, slug)
    rules = current_rules(round, request.GET.get("rules"))
    if rules is None:
        raise Http404("The round has no rules yet.")
    context = {
        "round": round,
        "rules": rules,
        "sections": rule_sheet(round, rules, request.user.units),
        "drawing": picture(as_agreed(round, rules).what, request.user.units),
    }
    return render(request, "rounds/sheet.html", context)


@require_POST
def ask(request: Request, slug: str) -> HttpResponse:
    """Ask about the rules in force, or object to them."""
    round = round_for(request.user, slug, "rules.ask")
    rules = current_rules(round)
    form = QuestionForm(request.POST)
    if rules is not None and form.is_valid():
        rules.round = round
        actions.ask(request.user, rules, form.cleaned_data["kind"], form.cleaned_data["text"])
        messages.success(request, "It stands with the rules now; the host answers there.")
    else:
        messages.error(request, "Write what you ask, or what you object to and why.")
    return redirect(f"{reverse('rounds:brief', args=[slug])}#questions")


@require_POST
def answer(request: Request, slug: str, pk: int) -> HttpResponse:
    """Answer a question."""
    round = round_for(request.user, slug, "rules.answer")
    question = get_object_or_404(
        RuleQuestion.objects.select_related("rules__round"), pk=pk, rules__round=round
    )
    try:
        actions.answer(request.user, question, request.POST.get("answer", ""))
        messages.success(request, "Answered.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(f"{reverse('rounds:brief', args=[slug])}#questions")


@require_POST
def move(request: Request, slug: str) -> HttpResponse:
    """Open the round for entries, go to the bench, put it away or take it up again."""
    round = round_for(request.user, slug, "round.change")
    try:
        if request.POST.get("to") == Round.State.OPEN:
            actions.open_round(request.user, round)
            messages.success(
                request,
                "The round is open for entries. From now on a change of the rules makes a new"
                " version.",
            )
        elif request.POST.get("to") in {"archive", "take_up"}:
            put_away = request.POST["to"] == "archive"
            actions.archive_round(request.user, round, put_away)
            where = "on the page under your name" if put_away else "on Home again"
            messages.success(
                request, f"{round} is {'archived' if put_away else 'back'}: it stands {where}."
            )
        else:
            actions.start_bench(request.user, round)
            messages.success(request, "The round is on the bench.")
    except ValidationError as problem:
        for text in problem.messages:
            messages.error(request, text)
    return redirect("rounds:brief", slug)


def people(request: Request, slug: str) -> HttpResponse:
    """Who is in the round, and links by which others join."""
    round = round_for(request.user, slug, "people.invite")
    form = InviteForm(sent(request))
    link = ""
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        _, secret = invitations.invite(
            request.user,
            round,
            data["role"],
            days=data["days"],
            uses=data["uses"],
            whom=data["whom"],
        )
        link = request.build_absolute_uri(reverse("rounds:join", args=[secret]))
    context = {
        "round": round,
        "form": form,
        "link": link,
        "members": round.memberships.select_related("user").order_by("role", "user__username"),
        "invitations": round.invitations.select_related("created_by")[:50],
        "roles": ROLES,
    }
    return render(
        request, "rounds/people.html", context, status=422 if form.is_bound and not link else 200
    )


@require_POST
def revoke(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take an invitation back."""
    round = round_for(request.user, slug, "people.invite")
    invitations.revoke(
        request.user,
        get_object_or_404(Invitation.objects.select_related("round"), pk=pk, round=round),
    )
    messages.success(request, "The link no longer works.")
    return redirect("rounds:people", slug)


@require_POST
def role(request: Request, slug: str, pk: int) -> HttpResponse:
    """Give a member another role, or take them out."""
    round = round_for(request.user, slug, "people.invite")
    member = get_object_or_404(
        Membership.objects.select_related("round", "user"), pk=pk, round=round
    )
    try:
        invitations.change_role(request.user, member, request.POST.get("role") or None)
        messages.success(request, "Kept.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("rounds:people", slug)


@login_not_required
def join(request: HttpRequest, secret: str) -> HttpResponse:
    """Join a round by an invitation: signed in, or as a new person."""
    invitation = invitations.find(secret)
    if invitation is None:
        return render(request, "rounds/join.html", {"invitation": None}, status=410)
    form = None if request.user.is_authenticated else JoinForm(sent(request))
    if request.method == "POST":
        try:
            if isinstance(request.user, User):
                member = invitations.accept(request.user, secret)
                return redirect(_first_place(member), member.round.slug)
            if form is not None and form.is_valid():
                person, member = _joined(request, form.cleaned_data, secret)
                login(request, person, backend="django.contrib.auth.backends.ModelBackend")
                return redirect(_first_place(member), member.round.slug)
        except ValidationError as problem:
            if form is None:
                return render(request, "rounds/join.html", {"invitation": None}, status=410)
            _to_form(form, problem)
    return render(
        request,
        "rounds/join.html",
        {"invitation": invitation, "form": form, "role": dict(ROLES)[invitation.role]},
        status=422 if form and form.is_bound else 200,
    )


def _first_place(member: Membership) -> str:
    """Where somebody who joined begins: a designer hands in, everybody else reads the brief."""
    return (
        "entries:list"
        if member.role == "designer" and member.round.state == Round.State.OPEN
        else "rounds:brief"
    )


def _joined(request: HttpRequest, data: dict[str, str], secret: str) -> tuple[User, Membership]:
    """Somebody new who joins, or whose name and password these are: who has an account already, or
    whose browser sent the form twice. A guess is counted, so it is no part of what is rolled back.
    """
    try:
        with transaction.atomic():
            person = _new_person(data)
            return person, invitations.accept(person, secret)
    except ValidationError as problem:
        if not hasattr(problem, "error_dict") or "username" not in problem.error_dict:
            raise
        known = authenticate(request, username=data["username"], password=data["password"])
        if not isinstance(known, User):
            raise
        if second.app_of(known) is not None:
            raise ValidationError(
                "Your account has a second factor. Sign in first, then open this link again."
            ) from problem
        return known, invitations.accept(known, secret)


def _new_person(data: dict[str, str]) -> User:
    person = User(username=data["username"], first_name=data["first_name"])
    try:
        validate_password(data["password"], person)
    except ValidationError as problem:
        raise ValidationError({"password": problem.messages}) from problem
    person.set_password(data["password"])
    person.clean_fields(exclude=["password"])
    try:
        with transaction.atomic():
            person.save()
    except IntegrityError as problem:
        if not User.objects.filter(username=person.username).exists():
            raise
        raise ValidationError(
            {
                "username": (
                    "Somebody has this username, with another password. Choose another name; if"
                    " it is you, your password."
                )
            }
        ) from problem
    return person


def audit(request: Request, slug: str) -> HttpResponse:
    """Who changed what in the round, newest first."""
    round = round_for(request.user, slug, "audit.view")
    rows = AuditEntry.objects.filter(round=round).select_related("user")
    what = request.GET.get("what", "")
    if what:
        rows = rows.filter(action__startswith=f"{what}.")
    page = Paginator(rows, AUDIT_PAGE).get_page(request.GET.get("page"))
    kinds = ("rules", "round", "run", "entry", "specimen", "reference", "people")
    return render(
        request, "rounds/audit.html", {"round": round, "page": page, "what": what, "kinds": kinds}
    )
