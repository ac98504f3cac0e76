"""Whether something may be done at a live bench yet: put a hand in, take a reading. Each rule once,
for the action and for the page.
"""

from __future__ import annotations

from hauch.bench.models import Live
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import channels_of
from hauch.core.measure.rigs import RIGS
from hauch.core.trace.beside import BACKGROUND, TARE
from hauch.live.protocol import last_turn, opening, status_of, turning
from hauch.rounds.models import HELD_EQUAL, Test

RUNS_DOWN = 30.0
"""Seconds after the throttle was closed in which a part may still turn where no speed is read."""


def main_channel(live: Live) -> str:
    """The channel that decides, for the large figure."""
    columns = shown_channels(live)
    if live.test.procedure == "electrical_power" and "power" in columns:
        return "power"
    for group in live.test.how.needs:
        for channel in group:
            if channel in columns:
                return channel
    return columns[0]


def shown_channels(live: Live) -> list[str]:
    """Channels on the screen: those that are read, and the power where volts and amps are."""
    columns = list(live.recording.columns)
    return (
        [*columns, "power"]
        if "power" not in columns and {"voltage", "current"} <= set(columns)
        else columns
    )


def deciding(live: Live) -> list[str]:
    """Labels of the meters without which the test has no figure: those of its first group that is
    read.
    """
    columns = set(live.recording.columns)
    group = next((g for g in live.test.how.needs if set(g) & columns), ())
    return [CHANNELS[c].label for c in group if c in columns]


def to_hold(live: Live) -> tuple[str, float] | None:
    """Channel and target that the round holds equal at the bench, where the rig reads it."""
    target = live.round.equal_value
    channel = next((c for c, word in HELD_EQUAL.items() if word == live.round.equal), None)
    if target is None or channel is None or live.test.how.equal:
        return None
    if channel == "power" and not RIGS[live.test.how.rig].power_of_part:
        return None
    columns = set(live.recording.columns)
    return (
        (channel, target)
        if channel in columns or (channel == "power" and {"voltage", "current"} <= columns)
        else None
    )


def soaked(live: Live) -> bool:
    """Whether the soak is over by the test's rule."""
    status = status_of(live)
    if live.test.soak == Test.Soak.MINUTES:
        return (
            status.turned is not None
            and status.throttle > 0
            and live.seconds() - status.turned >= 60 * (live.test.soak_minutes or 0)
        )
    return status.forecast is not None and status.forecast.settled


def needs_background(live: Live) -> bool:
    """Whether the room is to be read without the part."""
    return (
        "background_level" in channels_of(live.test.how)
        and "sound_level" in live.recording.columns
        and BACKGROUND not in live.beside
    )


def needs_tare(live: Live) -> bool:
    """Whether the drive is to be read without the part."""
    return (
        "tare_torque" in channels_of(live.test.how)
        and "torque" in live.recording.columns
        and TARE not in live.beside
    )


def why_no_hand(live: Live) -> str:
    """Why no hand may go in yet, in a sentence; empty where it may."""
    status = status_of(live)
    if turning(live) or opening(live):
        return "Close the throttle first, and wait until all stands still: no hand goes in before."
    if status.stands is False:
        return "The part still turns. Wait until it stands still: no hand goes in before."
    since, turned = live.seconds() - last_turn(live), last_turn(live)
    if status.stands is None and turned > 0 and since < RUNS_DOWN:
        return (
            f"The throttle was closed {max(since, 0):.0f} s ago, and no speed is read here. Wait"
            f" {RUNS_DOWN - since:.0f} s, and look whether all stands still: no hand goes in before."
        )
    return ""


def why_no_reading(live: Live) -> str:
    """Why no reading may be taken yet, in a sentence; empty where it may. Steps that somebody
    confirms and the seconds that a reading takes are looked at elsewhere.
    """
    status, held = status_of(live), to_hold(live)
    task = status.task
    holds = task is not None and task.kind == "hold" and task.held
    quiet = [label for label in deciding(live) if label in status.silent]
    soak = live.test.soak != Test.Soak.NONE and not soaked(live)
    minutes = live.test.soak == Test.Soak.MINUTES
    reasons = (
        (
            live.test.how.by_point,
            "This test is read from the steps of a sweep: sweep the throttle, then accept.",
        ),
        (needs_background(live), "Read the background first, with the throttle closed."),
        (needs_tare(live), "Read the drive without the part first."),
        (
            "throttle" in live.recording.columns and not turning(live),
            "The throttle is closed. A reading is taken while the part runs: open it first.",
        ),
        (status.stands, "The part stands still. A reading is taken while it runs."),
        (
            held is not None and not holds,
            "The round compares at an equal figure: have the throttle turned until it holds.",
        ),
        (soak and minutes, f"The soak of {live.test.soak_minutes or 0:g} min is not over yet."),
        (soak, "The load has not settled yet. A reading is taken when it has."),
        (
            quiet,
            f"No answer from: {', '.join(quiet)}. A reading without it has no figure; look at its"
            " line.",
        ),
    )
    return next((said for holds_back, said in reasons if holds_back), "")
