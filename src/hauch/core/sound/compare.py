"""One recording held against another: levels, bands, tones gone, new and moved, in words.

References
----------
Difference of two levels and its doubt: `hauch.core.sound.doubt`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from hauch.core.sound.doubt import Change, Level, change
from hauch.core.sound.naming import Kind, Named
from hauch.core.sound.told import Analysis, Band

SAME = 0.02
"""Two tones without a source are one when their frequencies differ by less than this share."""

MOVED = 0.12
"""Within this share a tone that is gone and one that is new are one that moved."""

AS_LOUD = 3.0
"""A tone that both have is told when its level differs by this or more [dB]."""

LEAST_TOLD = 0.1
"""A smaller doubt of a level is told as this [dB]."""

NAMED = (Kind.WHISTLE, Kind.HUM)


@dataclass(frozen=True, slots=True)
class Pair:
    """A tone in both recordings."""

    ours: Named
    theirs: Named

    @property
    def change(self) -> float:
        """Level of ours above theirs [dB]."""
        return self.ours.tone.level - self.theirs.tone.level


@dataclass(frozen=True, slots=True)
class Comparison:
    """A recording against another.

    Parameters
    ----------
    level : A-weighted, ours above theirs; both without background
    bands : number of each band that all have, and ours above theirs; None where any is an upper
        limit
    recordings : of theirs that were looked at
    gone, new : audible tones that only theirs, or only ours has
    moved : tones without a source at another frequency
    same : tones that both have
    """

    level: Change
    bands: tuple[tuple[int, Change | None], ...]
    gone: tuple[Named, ...]
    new: tuple[Named, ...]
    moved: tuple[Pair, ...]
    same: tuple[Pair, ...]
    recordings: int = 1


def compare(
    ours: Analysis,
    theirs: Sequence[Analysis],
    like: Sequence[Sequence[Analysis]] = (),
    apart: float = 0.0,
) -> Comparison:
    """Hold a recording against one or several of another part that were made in the same way.

    Parameters
    ----------
    ours : calibrated as theirs, or recorded with the same gain
    theirs : of one part; tones are compared with the first
    like : groups of recordings of one part each that tell how well a recording is repeated
    apart : standard uncertainty that only one side has [dB]

    Notes
    -----
    A tone with a source (blades, mains) is the same tone at whatever speed; one without is the same
    within `SAME`. Tones that the room has are left out.
    """
    left = [t for t in theirs[0].heard if not t.in_background]
    same, new = [], []
    for tone in (t for t in ours.heard if not t.in_background):
        other = _partner(tone, left, SAME)
        if other is None:
            new.append(tone)
        else:
            left.remove(other)
            same.append(Pair(tone, other))
    moved = []
    for tone in [t for t in new if t.kind in NAMED]:
        other = _partner(tone, [t for t in left if t.kind in NAMED], MOVED)
        if other is not None:
            left.remove(other)
            new.remove(tone)
            moved.append(Pair(tone, other))
    return Comparison(
        change(
            [ours.sure],
            [one.sure for one in theirs],
            ours.freedom,
            apart,
            [[one.level for one in group] for group in like],
        ),
        _bands(ours, theirs, like, apart),
        tuple(left),
        tuple(new),
        tuple(moved),
        tuple(same),
        len(theirs),
    )


def _partner(tone: Named, others: Sequence[Named], share: float) -> Named | None:
    """The tone of others that is the same one."""
    if tone.kind not in NAMED:
        return next((o for o in others if (o.kind, o.name) == (tone.kind, tone.name)), None)
    f = tone.tone.frequency
    near = [o for o in others if o.kind in NAMED and abs(o.tone.frequency - f) <= share * f]
    return min(near, key=lambda o: abs(o.tone.frequency - f), default=None)


def _bands(
    ours: Analysis, theirs: Sequence[Analysis], like: Sequence[Sequence[Analysis]], apart: float
) -> tuple[tuple[int, Change | None], ...]:
    others = [_by_number(one) for one in theirs]
    groups = [[_by_number(one) for one in group] for group in like]
    out: list[tuple[int, Change | None]] = []
    for band in ours.bands:
        held = [other[band.number] for other in others if band.number in other]
        if len(held) < len(others):
            continue
        if band.limit or any(one.limit for one in held):
            out.append((band.number, None))
            continue
        repeats = [
            [one[band.number].source for one in group]
            for group in groups
            if all(band.number in one and not one[band.number].limit for one in group)
        ]
        sure = [Level(one.source, one.doubt) for one in held]
        own = [Level(band.source, band.doubt)]
        out.append((band.number, change(own, sure, ours.freedom, apart, repeats)))
    return tuple(out)


def _by_number(one: Analysis) -> dict[int, Band]:
    return {band.number: band for band in one.bands}


def hertz(frequency: float) -> str:
    """A frequency in words: 216 Hz, 1,240 Hz."""
    return f"{round(frequency, -1):,.0f} Hz" if frequency >= 1000 else f"{frequency:.0f} Hz"


def _called(tone: Named) -> str:
    what = tone.name if tone.kind in NAMED else f"tone of {tone.name}"
    return f"{hertz(tone.tone.frequency)} {what}"


def _stands_out(tone: Named) -> str:
    over = tone.tone.to_noise
    return f"{over:.0f} dB above its surroundings" if over >= 0.5 else "just above what masks it"


def sentence(ours: Analysis, comparison: Comparison | None, name: str = "the reference") -> str:
    """What is told on top of a recording's page.

    Parameters
    ----------
    comparison : with the other recording, if there is one
    name : of that other
    """
    unit = "dB(A)" if ours.calibrated else "dB(A) below full scale"
    level = ours.level if ours.calibrated else -ours.level
    if (spoilt := ours.spoilt) is not None:
        return f"No level can be told: {spoilt.fault}. {spoilt.text}"
    parts = [f"{'At most ' if ours.limit else ''}{level:.1f} {unit}"]
    if comparison is None:
        parts += [f"the {_called(t)} stands {_stands_out(t)}" for t in _worst(ours)]
        return "; ".join(parts) + "."
    parts[0] += f", {_changed(comparison.level, name)}"
    parts += [f"the {_called(t)}, {_stands_out(t)} there, is gone" for t in comparison.gone[:2]]
    parts += [f"a {_called(t)} is new, {_stands_out(t)}" for t in comparison.new[:2]]
    parts += [
        f"the {p.theirs.name} at {hertz(p.theirs.tone.frequency)} has moved to"
        f" {hertz(p.ours.tone.frequency)}"
        for p in comparison.moved[:2]
    ]
    loud = sorted(
        (p for p in comparison.same if abs(p.change) >= AS_LOUD), key=lambda p: -abs(p.change)
    )
    parts += [
        f"the {_called(p.ours)} is {abs(p.change):.0f} dB {'louder' if p.change > 0 else 'quieter'}"
        for p in loud[:1]
    ]
    return "; ".join(parts) + "."


def _changed(level: Change, name: str) -> str:
    """A change of level with its doubt: 0.9 ± 0.3 dB less than the reference."""
    change = f"{abs(level.value):.1f}"
    which = "more" if level.value > 0 else "less"
    by = f"{change} ± {max(level.doubt, LEAST_TOLD):.1f}"
    if not level.clear:
        return f"not told apart from {name} ({by} dB{'' if change == '0.0' else f' {which}'})"
    return f"{by} dB {which} than {name}"


def _worst(ours: Analysis) -> list[Named]:
    """Tones that are worth a word: the one that stands out most, without those of the room."""
    return [t for t in ours.heard if not t.in_background][:1]
