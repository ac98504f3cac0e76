"""What is asked in a set-up, step by step, and what follows from the answers. No database here."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

from hauch.core.geometry.envelope import PARTS, Envelope
from hauch.core.geometry.kinds import PART_KINDS, PartKind
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.rigs.base import Constant
from hauch.core.measure.rigs.common import SPIN
from hauch.core.measure.shelf import SAME_AS
from hauch.core.measure.wants import USUAL, WANTS, Want, Way, channels_read
from hauch.core.part.cautions import AIR
from hauch.core.quantity import standard_of
from hauch.people.requests import whole
from hauch.rounds.starts import Start, StartTest

STEPS = {
    "wants": "What to know",
    "means": "With what",
    "sizes": "Sizes",
    "parts": "The parts",
}
"""Steps after the kind of part, in order, with the words of their places."""

TOGETHER, ONE, LIMITS, SUM, FRONT = "together", "one", "limits", "sum", "front"
DECIDE = {
    TOGETHER: "All together, each counting the same",
    ONE: "One figure; others are only looked at",
    LIMITS: "One figure; others may lose 2 % or 1 dB",
    SUM: "Their sum, such as kelvin plus decibels",
    FRONT: "No single score: the trade-off",
}
"""What makes one part better than another."""


@dataclass
class Answers:
    """What was answered so far; empty where it was not.

    ``ways`` by want, ``rigs`` by kind of rig (primary key of one in the stores, 0 for a new one),
    ``condition`` is something that each is run with and without, such as a shroud, ``meters`` by
    channel (``own:7`` or a key of the shelf), ``constants`` by kind of rig: name ->
    [value, half the 95 % interval], SI.
    """

    part: str
    wants: list[str] = field(default_factory=list)
    ways: dict[str, str] = field(default_factory=dict)
    rigs: dict[str, int] = field(default_factory=dict)
    meters: dict[str, str] = field(default_factory=dict)
    constants: dict[str, dict[str, list[float]]] = field(default_factory=dict)
    equal_value: float | None = None
    diameter: float | None = None
    condition: str = ""
    done: list[str] = field(default_factory=list)

    @classmethod
    def from_json(cls, stored: dict[str, Any]) -> Answers:
        """As they were stored; what is not known any more is left out."""
        known = {f.name for f in fields(cls)}
        return cls(**{name: value for name, value in stored.items() if name in known})

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage."""
        return asdict(self)

    @property
    def kind(self) -> PartKind:
        """The kind of part."""
        return PART_KINDS[self.part]

    @property
    def usual(self) -> tuple[str, ...]:
        """What is usually asked of this kind of part."""
        return USUAL[self.part]

    @property
    def chosen(self) -> list[Want]:
        """What is to be known, in the order of the choice."""
        return [WANTS[key] for key in self.wants if key in WANTS]

    @property
    def chosen_ways(self) -> dict[str, Way]:
        """The way for each want."""
        return {want.key: want.way(self.ways.get(want.key, "")) for want in self.chosen}

    @property
    def rig_kinds(self) -> list[str]:
        """Kinds of rigs that are needed, each once."""
        return list(dict.fromkeys(way.how.rig for way in self.chosen_ways.values()))

    def channels_on(self, rig: str) -> list[str]:
        """Channels that are read on a kind of rig."""
        return channels_read(w for w in self.chosen_ways.values() if w.how.rig == rig)

    @property
    def channels(self) -> list[str]:
        """Channels that a meter is chosen for: one that reads two of them is asked for once."""
        read = channels_read(self.chosen_ways.values())
        return [c for c in read if SAME_AS.get(c) not in read]

    def look(self, typed: Mapping[str, str]) -> None:
        """Take over what stands in the form of the means while it is filled in."""
        self.ways = {w.key: typed.get(f"way_{w.key}", "") for w in self.chosen}
        self.rigs = {
            kind: chosen
            for kind in self.rig_kinds
            if (chosen := whole(typed.get(f"rig_{kind}"))) is not None
        }
        self.meters = {c: typed[f"meter_{c}"] for c in self.channels if f"meter_{c}" in typed}

    @property
    def equal(self) -> str:
        """What is held equal: ``power``, ``noise`` or nothing."""
        return next((want.equal for want in self.chosen if want.equal), "")

    def constants_of(self, rig: str) -> list[Constant]:
        """What must be known of a new rig of a kind for what is chosen."""
        more = {c for w in self.chosen_ways.values() if w.how.rig == rig for c in w.constants}
        return [c for c in RIGS[rig].constants if c.needed or c.key in more]

    def pairs(self, rig: str) -> dict[str, tuple[float, float]]:
        """Constants of a new rig with their standard uncertainty; usual ones where nothing was
        answered.
        """
        said = self.constants.get(rig, {})
        return {
            c.key: (
                (said[c.key][0], standard_of(said[c.key][1]))
                if c.key in said
                else (c.typical, standard_of(c.doubt))
            )
            for c in self.constants_of(rig)
        }

    @property
    def asks_sizes(self) -> bool:
        """Whether there is a size to ask for at all."""
        new = [rig for rig in self.rig_kinds if not self.rigs.get(rig)]
        return bool(self.equal) or self.kind.spins or any(self.constants_of(rig) for rig in new)

    @property
    def steps(self) -> list[str]:
        """The steps that apply."""
        return [step for step in STEPS if step != "sizes" or self.asks_sizes]

    def next_step(self) -> str:
        """The first step that was not answered yet."""
        return next((step for step in self.steps if step not in self.done), "parts")

    @property
    def question(self) -> str:
        """The question of the round."""
        best = [want.best for want in self.chosen]
        said = best[0] if len(best) == 1 else f"{', '.join(best[:-1])} and {best[-1]}"
        return f"Which {self.kind.label} {said}?"[:200]

    @property
    def safety(self) -> str:
        """What can hurt: of the part, and of every rig that is used."""
        found = ["Printed rotors can burst."] if self.kind.spins else []
        found += [AIR] if self.kind.pressurised else []
        of_rigs = [RIGS[rig].caution for rig in self.rig_kinds if RIGS[rig].caution]
        if SPIN in of_rigs or not self.kind.spins:
            found += of_rigs
        else:
            found += [SPIN, *of_rigs]
        return " ".join(dict.fromkeys(found)) or (
            "The fan before or behind the part has its guard; nobody reaches in."
        )

    def start(self, decide: str, first: str, repeats: int) -> Start:
        """The round as a start: its tests, and what each counts for.

        Parameters
        ----------
        decide : key of `DECIDE`
        first : the want that decides, where one does
        """
        alone = decide in {ONE, LIMITS} or len(self.chosen) == 1
        if first not in self.wants:
            first = self.wants[0]
        tests = []
        for want in self.chosen:
            way, decides = self.chosen_ways[want.key], not alone or want.key == first
            options = {"repeats": repeats, **want.options}
            if want.key == "noise" and not self.rigs.get("sound_spot"):
                options["reporting_distance"] = self.pairs("sound_spot")["distance"][0]
            limit = 1.0 if not way.how.log else 2.0
            usual = StartTest(
                want.key.replace("_", "-"),
                way.how.metric.capitalize(),
                way.procedure,
                1.0 if decides else None,
                limit if decide == LIMITS and not decides else None,
                options,
            )
            if not self.condition:
                tests.append(usual)
                continue
            for word in ("with", "without"):
                tests.append(
                    replace(
                        usual,
                        key=f"{usual.key}-{word}",
                        label=f"{usual.label}, {word} {self.condition}"[:80],
                        weight=None if alone and word == "without" else usual.weight,
                        setting=f"{word.capitalize()} {self.condition}"[:80],
                    )
                )
        scheme = {LIMITS: "constraint", FRONT: "front", SUM: "sum"}.get(decide, "weighted_percent")
        if len(self.chosen) == 1 or decide == ONE:
            scheme = "best_single"
        given: dict[str, Any] = {"quick": True}
        if self.equal:
            given |= {"equal": self.equal, "equal_value": self.equal_value}
        if self.diameter:
            given["envelope"] = envelope_around(self.part, self.diameter)
        return Start(
            "guided",
            f"Comparison of {self.kind.plural}",
            self.part,
            self.question,
            tuple(tests),
            scheme,
            safety=self.safety,
            fields=given,
        )


def envelope_around(part: str, diameter: float) -> dict[str, Any]:
    """An envelope in proportion around a rotor of a diameter [m], to be made exact in the brief."""
    usual = {p.key: p.start for p in PARTS[part]}
    scale = diameter / (usual["bore"] - 2 * usual["tip_gap"])
    values = {
        key: value if key == "wall" else round(value * scale, 4) for key, value in usual.items()
    }
    values["tip_gap"] = usual["tip_gap"] * scale
    values["bore"] = diameter + 2 * values["tip_gap"]
    values["mount_square"] = max(
        values["mount_square"], round(values["bore"] + 3 * values["wall"], 4)
    )
    return Envelope(part, values).as_json()
