"""The procedure of a live bench: which step is next, what to do, and whether it may be done yet."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import groupby

import numpy as np

from hauch.bench.models import Live, Run
from hauch.bench.plan import wanted_repeats
from hauch.bench.reduction import places_of
from hauch.bench.runs import Subject
from hauch.bench.traces import trace_of
from hauch.core.judge.band import Band, of_next
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import channels_of
from hauch.core.measure.rigs import RIGS
from hauch.core.quantity.show import show
from hauch.core.trace.beside import BACKGROUND, TARE
from hauch.live.actions import READING_SECONDS
from hauch.live.protocol import Status, guard_closed_at, opening, status_of, steps_of, turning
from hauch.live.readiness import soaked, to_hold, why_no_hand
from hauch.live.runs import by_hand_swept
from hauch.rounds.models import HELD_EQUAL, Setting, Test


@dataclass(frozen=True, slots=True)
class Step:
    """One step: ``state`` is done, now or later; ``text`` says what to do, ``hints`` more of it,
    ``button`` how it is done.
    """

    key: str
    label: str
    state: str
    text: str = ""
    hints: list[str] = field(default_factory=list)
    button: str = ""


@dataclass(frozen=True, slots=True)
class Offer:
    """Settings at which a part may go on when all its repeats are in; ``closes`` where the first of
    them is the one before, so that drift falls out of the comparison (A-B-A).
    """

    settings: list[Setting]
    closes: bool = False


def offer(live: Live) -> Offer:
    """What comes after the last repeat at a setting: the one before again, or one that no test is
    scored at and that this part was not run at yet.
    """
    subject = Subject(live.specimen, live.reference).fields
    valid = Run.objects.filter(test=live.test, state=Run.State.VALID, **subject)
    wanted = wanted_repeats(live.test, live.specimen)
    if live.windows or valid.filter(setting=live.setting).count() < wanted:
        return Offer([])
    run_at = valid.filter(recording=live.recording).order_by("started_at", "pk")
    order = [pk for pk, _ in groupby(run_at.values_list("setting_id", flat=True))]
    if not order or order[-1] != live.setting_id:
        return Offer([])
    if len(order) >= 2 and order[-1] not in order[:-1]:
        return Offer(list(Setting.objects.filter(pk=order[-2])), closes=True)
    scored = Test.objects.filter(round=live.round).values("setting")
    others = Setting.objects.filter(round=live.round).exclude(pk__in=scored).exclude(pk__in=order)
    return Offer(list(others))


HOLDABLE = ("power", "sound_level", "speed", "air_speed", "static_pressure")
"""Channels that a search can hold, the usual ones first."""


def steps(live: Live, units: str) -> list[Step]:
    """All steps of the procedure in order; the first one that is not done is now."""
    how, status, confirmed = live.test.how, status_of(live), steps_of(live)
    wanted: list[tuple[str, str, bool, str, list[str], str]] = [
        (
            "mount",
            "Mount",
            confirmed.mount is not None,
            f"Mount {live.subject} on {live.test.rig}.",
            assembly(live),
            "It is mounted",
        ),
        (
            "guard",
            "Guard",
            confirmed.guard is not None,
            guard_text(live),
            [],
            "The guard is closed, nobody stands in the plane",
        ),
    ]
    if "background_level" in channels_of(how) and "sound_level" in live.recording.columns:
        wanted.append(
            (
                "background",
                "Background",
                BACKGROUND in live.beside,
                "Leave the throttle closed, and read the room while the part stands still.",
                [],
                "Read the background",
            )
        )
    if "tare_torque" in channels_of(how) and "torque" in live.recording.columns:
        read = TARE in live.beside
        first: list[tuple[str, str, bool, str, list[str], str]] = [
            (
                "guard",
                "Guard",
                read or confirmed.guard is not None,
                f"The drive without the part first. {guard_text(live)}",
                [],
                "The guard is closed over the bare drive",
            ),
            ("tare", "Without", read, tare_text(live), [], "Read it without the part"),
        ]
        wanted = first + [
            (key, label, is_done and read, text, hints, button)
            for key, label, is_done, text, hints, button in wanted
        ]
    wanted.append(throttle_step(live, units, status))
    if not how.by_point:
        if live.test.soak != Test.Soak.NONE:
            wanted.append(("soak", "Soak", soaked(live), soak_text(live), [], ""))
        places = places_of(live.test, live.specimen)
        taken, asked = len(live.windows), max(live.test.readings, places)
        place = f" Place {taken % places + 1} of {places} is next." if places else ""
        wanted.append(
            (
                "read",
                "Read",
                taken >= asked,
                f"{taken} of {asked} readings of {READING_SECONDS:.0f} s taken.{place}",
                [],
                "Take reading",
            )
        )
    after = offer(live)
    if after.settings and (turning(live) or opening(live)):
        wanted = [row for row in wanted if row[0] in {"mount", "guard"}]
        close = "All repeats at this setting are in. Close the throttle."
        wanted.append(("cut", "Close", False, close, [], "Close the throttle"))
    elif after.settings:
        wanted = [setting_step(live, after)]
    else:
        accept = "Look at the readings, then accept the run."
        wanted.append(("accept", "Accept", False, accept, [], ""))
    made, found = [], False
    for key, label, is_done, text, hints, button in wanted:
        state = "done" if is_done else "later" if found else "now"
        found = found or state == "now"
        made.append(Step(key, label, state, text, hints, button))
    return made


def setting_step(live: Live, after: Offer) -> tuple[str, str, bool, str, list[str], str]:
    """Another setting of the same part, when all repeats at this one are in."""
    why = "the same setting before and after, so that drift falls out" if after.closes else ""
    text = (
        f"All repeats at “{live.setting}” are in. Go on at “{after.settings[0]}” again: {why}."
        if why
        else f"All repeats at “{live.setting}” are in. Take the next part, or go"
        " on with this one at another setting."
    )
    return ("setting", "Setting", False, text, [why_no_hand(live)] if why_no_hand(live) else [], "")


def assembly(live: Live) -> list[str]:
    """The order of assembly, as the designer wrote it and the workshop kept it."""
    if live.specimen is None:
        return []
    told = [step.text for step in live.specimen.version.steps.order_by("order")]
    return told or [
        step.text for step in live.specimen.steps.filter(kind="assemble").order_by("order")
    ]


def guard_text(live: Live) -> str:
    """The usual cautions at this step, with the speed limit."""
    caution = RIGS[live.test.rig.kind].caution
    limit = (
        f" Not above {live.cap:,.0f} 1/min: the throttle closes by itself there."
        if live.cap
        else ""
    )
    return f"{caution}{limit}".strip() or "Close the guard and stand clear."


def tare_text(live: Live) -> str:
    """How to read the drive without the part."""
    if live.test.how.by_point:
        return (
            "Drive without the part first: close the guard, sweep the throttle, then keep that"
            " sweep."
        )
    return (
        "Drive without the part first: close the guard, open the throttle to the speed of the test,"
        " let it run steadily, then read."
    )


STEPPED = {
    "damper": (
        "Step the damper from shut to open, ten seconds or more each, and leave the throttle as it"
        " is: it would move the fan along its system, not along its curve.",
        "Open the throttle. It stays there while the damper is stepped.",
    ),
    "brake": (
        "Step the brake from one end of the band to the other, ten seconds or more at each speed, and"
        " leave the throttle as it is.",
        "Open the throttle. It stays there while the brake is stepped.",
    ),
}
"""What else than the throttle is stepped for a curve -> what is said while the part runs, and before."""


def throttle_step(
    live: Live, units: str, status: Status
) -> tuple[str, str, bool, str, list[str], str]:
    """What turns the throttle in this test."""
    task, spun = status.task, status.throttle > 0
    if live.test.how.by_point:
        done, text = by_hand_swept(live), ""
        if task is not None and task.kind == "sweep" and task.begun > guard_closed_at(live):
            done, text = task.done and task.held, task.text
        elif live.test.how.stepped in STEPPED:
            text = STEPPED[live.test.how.stepped][0 if spun else 1]
            return ("throttle", "Steps", by_hand_swept(live), text, [], "Full throttle")
        by_hand = (
            "Sweep the throttle, or open it and step the damper by hand, ten seconds or more each:"
            " the curve is read from the steps."
        )
        return ("sweep", "Sweep", done, text or by_hand, [], "Sweep 30 to 100 %")
    if (held := to_hold(live)) is not None:
        channel, target = held
        said = show(target, CHANNELS[channel].kind, units)
        searched = task if task is not None and task.kind == "hold" else None
        done = spun and searched is not None and searched.held
        return (
            "hold",
            "Equal " + HELD_EQUAL[channel],
            done,
            (task.text if task is not None else "")
            or f"The round compares at {said}: have the throttle turned until that holds.",
            [],
            f"Hold {said}",
        )
    done = spun and status.calm
    no_line = "throttle" not in live.recording.columns
    text = (
        "Wait until the part runs steadily."
        if spun
        else "Open the throttle by hand, low first."
        if no_line
        else "Open the throttle, low first."
    )
    return ("throttle", "Throttle", done, text, [], "It is open" if no_line else "Full throttle")


def soak_text(live: Live) -> str:
    """What the soak waits for."""
    if live.test.soak == Test.Soak.MINUTES:
        return f"Soak for {live.test.soak_minutes:g} min after the throttle was opened."
    return (
        "Soak until it has settled: the uncertainty of its end and what still moves are both below what"
        " the round asks for."
    )


def bands(test: Test) -> dict[str, Band]:
    """Where a run of the reference would end on each channel, from its last runs: value and
    half-width, for the band behind the trace.
    """
    last = Run.objects.filter(
        test=test, setting=test.setting_id, state=Run.State.VALID, reference__isnull=False
    ).select_related("recording")
    means: dict[str, list[float]] = {}
    if test.procedure == "temperature_rise":
        # What the reference ended at goes with the room: its rise is drawn over the room as it is
        # now.
        risen = (
            last.filter(result__value__isnull=False)
            .order_by("-started_at")
            .values_list("result__value", flat=True)[:4]
        )
        means["load_temperature"] = [value for value in risen if value is not None]
        last = last.none()
    for run in last.prefetch_related("readings").order_by("-started_at")[:4]:
        seen: dict[str, list[float]] = {}
        for reading in run.readings.all():
            seen.setdefault(reading.channel, []).append(reading.value)
        if run.recording is not None and run.windows:
            for key, values in trace_of(run.recording).window(*run.windows[-1]).channels.items():
                good = values[np.isfinite(values)]
                if good.size:
                    seen.setdefault(key, []).append(float(good.mean()))
        for key, shown in seen.items():
            means.setdefault(key, []).append(float(np.mean(shown)))
    return {key: band for key, shown in means.items() if (band := of_next(shown))}
