"""One recording held against another: levels, bands, tones gone, new and moved, in words.

References
----------
Difference of two levels and its standard uncertainty: JCGM 100:2008, 5.1.2.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from hauch.core.sound.analysis import Analysis
from hauch.core.sound.naming import Kind, Named

SAME = 0.02
"""Two tones without a source are one when their frequencies differ by less than this share."""

MOVED = 0.12
"""Within this share a tone that is gone and one that is new are one that moved."""

AS_LOUD = 3.0
"""A tone that both have is told when its level differs by this or more [dB]."""

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
    level : A-weighted [dB], ours above theirs; both without background
    bands : number of each band that both have, and ours above theirs [dB]; None where either is an
        upper limit
    gone, new : audible tones that only theirs, or only ours has
    moved : tones without a source at another frequency
    same : tones that both have
    """

    level: float
    bands: tuple[tuple[int, float | None], ...]
    gone: tuple[Named, ...]
    new: tuple[Named, ...]
    moved: tuple[Pair, ...]
    same: tuple[Pair, ...]


def compare(ours: Analysis, theirs: Analysis) -> Comparison:
    """Hold a recording against another that was made in the same way.

    Parameters
    ----------
    ours, theirs : both calibrated, or both recorded with the same gain

    Notes
    -----
    A tone with a source (blades, mains) is the same tone at whatever speed; one without is the same
    within `SAME`. Tones that the room has are left out.
    """
    left = [t for t in theirs.heard if not t.in_background]
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
        ours.level - theirs.level,
        _bands(ours, theirs),
        tuple(left),
        tuple(new),
        tuple(moved),
        tuple(same),
    )


def _partner(tone: Named, others: Sequence[Named], share: float) -> Named | None:
    """The tone of others that is the same one."""
    if tone.kind not in NAMED:
        return next((o for o in others if (o.kind, o.name) == (tone.kind, tone.name)), None)
    f = tone.tone.frequency
    near = [o for o in others if o.kind in NAMED and abs(o.tone.frequency - f) <= share * f]
    return min(near, key=lambda o: abs(o.tone.frequency - f), default=None)


def _bands(ours: Analysis, theirs: Analysis) -> tuple[tuple[int, float | None], ...]:
    other = {band.number: band for band in theirs.bands}
    return tuple(
        (
            band.number,
            None
            if band.limit or other[band.number].limit
            else band.source - other[band.number].source,
        )
        for band in ours.bands
        if band.number in other
    )


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
    change = comparison.level
    parts[0] += (
        f", as loud as {name}"
        if abs(change) < 0.05
        else f", {abs(change):.1f} dB {'more' if change > 0 else 'less'} than {name}"
    )
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


def _worst(ours: Analysis) -> list[Named]:
    """Tones that are worth a word: the one that stands out most, without those of the room."""
    return [t for t in ours.heard if not t.in_background][:1]
