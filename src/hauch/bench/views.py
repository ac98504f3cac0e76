"""The Bench station: what is due, capture by hand, a run's result. Files are in `views_import`."""

from __future__ import annotations

import uuid
from datetime import timedelta
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db.models import Count, F, Q
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.http import urlencode
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm, room_initial, subject_choices, subject_of, typed_readings
from hauch.bench.models import Reading, Run
from hauch.bench.plan import Plan, plan_of, why_nothing_due
from hauch.bench.queries import counting, lives_of, repeats_chart, runs
from hauch.bench.reduction import channels_taken, places_of
from hauch.bench.runs import NewRun, Room, Subject, record_dnf, record_run
from hauch.bench.views_soak import soak_channel
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import channels_of
from hauch.core.quantity.show import show
from hauch.core.quantity.units import KINDS, from_si
from hauch.people.requests import Request, whole
from hauch.rounds.actions import add_setting as add
from hauch.rounds.models import Round, Setting, Test, TestReference
from hauch.rounds.queries import round_for
from hauch.stores.models import ReferenceSpecimen, RigMeter
from hauch.stores.pictures import keep_picture
from hauch.workshop.models import Specimen

PAGE = 25
ROOM_HOLDS = timedelta(hours=2)
"""Room readings of the last run are offered again for this long."""


def overview(request: Request, slug: str) -> HttpResponse:
    """What is due next, and what was run last."""
    round = round_for(request.user, slug, "bench.view")
    plan = plan_of(round)
    recent = runs().with_names().filter(test__in=plan.tests).order_by("-started_at", "-pk")
    page = Paginator(recent, PAGE).get_page(request.GET.get("page"))
    context = {
        "round": round,
        "due": plan.due,
        "nothing": None if plan.due else why_nothing_due(round, plan),
        "total": plan.total,
        "page": page,
        "choices": subject_choices(plan),
        "many": plan.many,
        "tests": plan.tests,
        "lined": lined_rigs([item.test.rig_id for item in plan.due]),
        "lives": lives_of([round]),
        "beside": _run_in_turn(plan),
    }
    return render(request, "bench/overview.html", context)


def _run_in_turn(plan: Plan) -> list[tuple[ReferenceSpecimen, Test, int]]:
    """Second references with the tests in which they are run in turn with the one in use, and how often
    they were.
    """
    if not plan.beside:
        return []
    valid = Q(specimen__runs__test=F("test"), specimen__runs__state=Run.State.VALID)
    counted = Count("specimen__runs", filter=valid)
    rows = TestReference.objects.filter(
        test__in=plan.tests, specimen__in=plan.beside, until__isnull=True, bridging=True
    )
    tests = {test.pk: test for test in plan.tests}
    specimens = {specimen.pk: specimen for specimen in plan.beside}
    return [
        (specimens[row.specimen_id], tests[row.test_id], row.runs)
        for row in rows.annotate(runs=counted).order_by("specimen", "test__order", "pk")
    ]


def next_run(request: Request, slug: str, specimen_pk: int) -> HttpResponse:
    """To the next run of a print, such as the one whose code was read from its label."""
    round = round_for(request.user, slug, "run.record")
    specimen = get_object_or_404(
        Specimen.objects.select_related("version__entry"),
        pk=specimen_pk,
        version__entry__round=round,
    )
    plan, subject = plan_of(round, 1, specimen.pk), Subject(specimen)
    entry = specimen.version.entry_id
    due = next(
        (t for t in plan.tests if (_repeat(plan, t, subject) or 0) <= plan.repeats_of(t, entry)),
        None,
    )
    if specimen.state != Specimen.State.READY or not plan.tests:
        messages.warning(request, f"{specimen} is {specimen.get_state_display()}.")
        return redirect(specimen)
    if due is None:
        messages.success(request, f"{specimen} has all its runs; a further repeat is welcome.")
    return redirect(capture_url(round, due or plan.tests[0], subject))


MOST_PRINTED = 60
"""Due runs on a form to print."""


def form_to_print(request: Request, slug: str) -> HttpResponse:
    """What is due as a form for paper, with a field for each reading: to be typed in later."""
    round = round_for(request.user, slug, "run.record")
    plan = plan_of(round, MOST_PRINTED)
    metered: dict[int, set[str]] = {}
    for rig, channel in RigMeter.objects.filter(
        rig__in={due.test.rig_id for due in plan.due}
    ).values_list("rig_id", "channel"):
        metered.setdefault(rig, set()).add(channel)
    rows = [
        {
            "due": due,
            "channels": [
                (CHANNELS[key].label, KINDS[CHANNELS[key].kind].shown[request.user.units])
                for key in channels_taken(due.test, metered.get(due.test.rig_id, set()))
                if key in metered.get(due.test.rig_id, set())
            ],
            "fields": range(places_of(due.test, due.specimen) or due.test.readings),
        }
        for due in plan.due
    ]
    return render(request, "bench/form.html", {"round": round, "rows": rows, "total": plan.total})


def lined_rigs(rigs: list[int]) -> set[int]:
    """Which of some rigs have a meter that is read over a line."""
    return set(
        RigMeter.objects.filter(rig__in=rigs)
        .exclude(instrument__resource="")
        .values_list("rig_id", flat=True)
    )


def pick(request: Request, slug: str) -> HttpResponse:
    """Go to the capture of what was chosen by hand."""
    round = round_for(request.user, slug, "run.record")
    if not request.GET.get("subject") or whole(request.GET.get("test")) is None:
        messages.error(request, "Choose a test and what is run.")
        return redirect("bench:overview", slug)
    try:
        subject = subject_of(round, request.GET["subject"])
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)
    return redirect(
        capture_url(
            round, get_object_or_404(Test, pk=whole(request.GET["test"]), round=round), subject
        )
    )


def last_room(round: Round) -> Room | None:
    """Room readings of the last run, if they are fresh."""
    run = (
        Run.objects.filter(
            test__round=round,
            temperature__isnull=False,
            created_at__gte=timezone.now() - ROOM_HOLDS,
        )
        .order_by("-created_at")
        .first()
    )
    if run is None or timezone.now() - run.started_at > ROOM_HOLDS:
        return None
    return Room(run.temperature, run.pressure, run.humidity)


def _repeat(plan: Plan, test: Test, subject: Subject) -> int | None:
    """Which repeat of an entry comes now; the reference is run as often as it is due."""
    if subject.specimen is None:
        return None
    version = subject.specimen.version
    if plan.versions.get(version.entry_id) == version.pk:
        return plan.counts.get((test.pk, version.entry_id), 0) + 1
    return (
        counting()
        .filter(
            test=test, specimen__version=version, state=Run.State.VALID, result__value__isnull=False
        )
        .count()
        + 1
    )


STANDING = "background_level"
"""The channel that is read once for a session, and offered again."""


def _background(test: Test) -> Reading | None:
    """The background as it was last read at this rig, where that is not long ago."""
    return (
        Reading.objects.filter(
            channel=STANDING,
            run__rig=test.rig,
            run__state=Run.State.VALID,
            run__started_at__gte=timezone.now() - ROOM_HOLDS,
        )
        .select_related("run")
        .order_by("-run__started_at", "-seq")
        .first()
    )


def _channel_rows(test: Test, metered: set[str], units: str) -> list[dict[str, Any]]:
    """Channels of the test that its rig has a meter for; a background of the session stands there
    already.
    """
    rows: list[dict[str, Any]] = []
    held = set(channels_taken(test, metered)) - set(channels_of(test.how))
    for key in channels_taken(test, metered):
        if key not in metered:
            continue
        channel = CHANNELS[key]
        unit = KINDS[channel.kind].shown[units]
        needed = any(key in group for group in test.how.needs)
        row = {"key": key, "label": channel.label, "unit": unit, "needed": needed}
        row["holds"] = not needed and key in held
        if key == STANDING and (before := _background(test)) is not None:
            row["held"] = f"{from_si(before.value, unit, channel.kind):.5g}"
            row["held_from"] = before.run
        rows.append(row)
    return rows


def capture(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Take a run by hand: readings on the left, what came before on the right."""
    round = round_for(request.user, slug, "run.record")
    choice = request.GET.get("subject", "")
    plan = plan_of(round, 5, whole(choice[1:]) if choice[:1] == "s" else None)
    test = plan.test(test_pk)
    if test is None:
        return _no_longer_measured(request, round, test_pk, choice)
    try:
        subject = subject_of(round, choice, plan)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)
    units = request.user.units
    setting = _setting(request, round, test)
    meters = list(test.rig.meters.select_related("instrument"))
    metered = {meter.channel for meter in meters}
    problems: list[str] = []
    if request.method == "POST":
        form = RoomForm(request.POST, units=units)
        readings, problems = typed_readings(
            request.POST, channels_taken(test, metered), units, places_typed(test, subject)
        )
        if form.is_valid():
            room = form.room()
            if not problems and form.is_valid():
                try:
                    run = record_run(
                        request.user,
                        NewRun(
                            test,
                            subject,
                            room,
                            form.moment(),
                            readings,
                            setting=setting,
                            note=form.cleaned_data["note"],
                            form_key=form.cleaned_data["form_key"],
                        ),
                    )
                except ValidationError as problem:
                    problems += spread_errors(problem, form)
                else:
                    return _accepted(request, round, run)
        problems += (
            []
            if form.is_valid()
            else [
                f"{form.fields[name].label}: {' '.join(str(e) for e in errors)}"
                for name, errors in form.errors.items()
                if name not in form.fields
            ]
        )
    else:
        form = RoomForm(units=units, initial=room_initial(last_room(round), units))
    channels = _channel_rows(test, metered, units)
    context = {
        "round": round,
        "test": test,
        "subject": subject,
        "form": form,
        "problems": problems,
        "repeat": _repeat(plan, test, subject),
        "channels": channels,
        "soak_channel": next((row for row in channels if row["key"] == soak_channel(test)), None),
        "assembly": list(subject.specimen.version.steps.all()) if subject.specimen else [],
        "chart": repeats_chart(test, subject.specimen, subject.reference),
        "lined": any(meter.instrument.resource for meter in meters),
        "reference": plan.references.get(test.pk),
        "choice": choice,
        "due": plan.due,
        "kind": test.how.kind,
        "places": places_typed(test, subject),
        "dnf_key": uuid.uuid4(),
        "setting": setting,
        "agreed": f"{round.equal_value:.9g}" if any(row["holds"] for row in channels) else "",
    }
    template = "bench/_capture.html" if request.htmx else "bench/capture.html"
    return render(request, template, context, status=422 if request.method == "POST" else 200)


def _setting(request: Request, round: Round, test: Test) -> Setting:
    """The setting that is run: the test's own, unless another one of the round was asked for."""
    asked = whole(request.GET.get("setting"))
    if asked is None or asked == test.setting_id:
        return test.setting
    return round.settings.filter(pk=asked).first() or test.setting


def settings(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """At what else a subject can be run: the test's own setting, and what no other test is run at."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(Test.objects.select_related("setting"), pk=test_pk, round=round)
    others = round.settings.filter(tests=None)
    context = {
        "round": round,
        "test": test,
        "setting": _setting(request, round, test),
        "settings": [test.setting, *others.exclude(pk=test.setting_id)],
        "choice": request.GET.get("subject", ""),
    }
    return render(request, "bench/_settings.html", context)


@require_POST
def add_setting(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Run a subject at another setting: lid off, narrow nozzle, speed step 2."""
    round = round_for(request.user, slug, "run.record")
    here = f"{reverse('bench:capture', args=[slug, test_pk])}?"
    where = {"subject": request.POST.get("subject", "")[:60]}
    try:
        where["setting"] = str(add(request.user, round, request.POST.get("label", "")).pk)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(here + urlencode(where))


def _no_longer_measured(request: Request, round: Round, test_pk: int, choice: str) -> HttpResponse:
    """The rules changed while somebody measured: say so and lead on; nothing is recorded, and what
    was typed stays in the browser.
    """
    old = round.tests.filter(pk=test_pk).first()
    if old is None:
        raise Http404("There is no such test in this round.")
    now = old
    while hasattr(now, "successor"):
        now = now.successor
    where = (
        "is no longer measured"
        if now.dropped
        else f"is measured in another way now, as “{now.label}”"
    )
    messages.warning(
        request,
        f"The rules have changed: “{old.label}” {where}. Nothing was recorded. Look at the Brief"
        " before you go on.",
    )
    target = (
        reverse("bench:overview", args=[round.slug])
        if now.dropped
        else f"{reverse('bench:capture', args=[round.slug, now.pk])}?subject={choice}"
    )
    if request.htmx:
        answer = HttpResponse(status=409)
        answer["HX-Redirect"] = target
        return answer
    return redirect(target)


def spread_errors(problem: ValidationError, form: RoomForm) -> list[str]:
    """Field errors onto the room form, all others as sentences."""
    if not hasattr(problem, "message_dict"):
        return list(problem.messages)
    rest = []
    for name, sentences in problem.message_dict.items():
        if name in form.fields:
            form.add_error(name, sentences)
        else:
            rest += sentences
    return rest


def _accepted(request: Request, round: Round, run: Run) -> HttpResponse:
    """Say what the run came to, and go on to the next one or to its result."""
    result = run.result
    if result.value is None:
        messages.warning(request, f"Run {run.pk} is recorded, but has no result. {result.missing}")
        target = run.get_absolute_url()
    else:
        shown = show(result.value, run.test.how.kind, request.user.units, result.expanded)
        messages.success(
            request, f"Run {run.pk}, {run}: {shown}.", extra_tags=run.get_absolute_url()
        )
        due = plan_of(round, 1).next
        target = run.get_absolute_url()
        if "next" in request.POST and due:
            target = capture_url(round, due.test, Subject(due.specimen, due.reference))
    if request.htmx:
        answer = HttpResponse(status=204)
        answer["HX-Redirect"] = target
        return answer
    return redirect(target)


MOST_POINTS = 60
"""Points of a curve that are read by hand."""


def places_typed(test: Test, subject: Subject) -> int:
    """How many places a run of a test reads in turn; 0 where it reads one. Each row of a curve is a
    point of its own.
    """
    if test.how.by_point:
        return MOST_POINTS
    return places_of(test, subject.specimen)


def form_key_of(request: Request) -> uuid.UUID | None:
    """The key of the form that was sent, so that sending it twice records once; None where it has
    none.
    """
    try:
        return uuid.UUID(request.POST.get("form_key", ""))
    except ValueError:
        return None


def capture_url(round: Round, test: Test, subject: Subject) -> str:
    """Address of the capture of a subject in a test."""
    what = subject.specimen or subject.reference
    choice = f"{'s' if subject.specimen else 'r'}{what.pk if what else ''}"
    return f"{reverse('bench:capture', args=[round.slug, test.pk])}?subject={choice}"


@require_POST
def dnf(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Record that the subject did not finish."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(
        Test.objects.select_related("round", "setting"), pk=test_pk, round=round
    )
    choice = request.POST.get("subject", "")
    try:
        readings, problems = typed_readings(
            request.POST,
            channels_taken(test, set(test.rig.meters.values_list("channel", flat=True))),
            request.user.units,
            places_typed(test, subject_of(round, choice)),
        )
        if problems:
            raise ValidationError(problems)
        sent = request.FILES.get("picture")
        run = record_dnf(
            request.user,
            test,
            subject_of(round, choice),
            request.POST.get("reason", ""),
            timezone.now(),
            readings=readings,
            picture=keep_picture(request.user, sent.read()) if sent else None,
            form_key=form_key_of(request),
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(f"{reverse('bench:capture', args=[slug, test_pk])}?subject={choice}")
    messages.success(request, f"{run.subject} did not finish: {run.reason} It keeps its row, last.")
    return redirect("bench:overview", slug)
