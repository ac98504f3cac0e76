"""Reading the Desk: what surrounds a design, factors of rigs, the record of predictions."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from django.db.models import Q, QuerySet

from hauch.bench.queries import versions_in
from hauch.core.measure.procedure import Procedure
from hauch.core.predict.record import Factor, Pair, Record, record_of, rig_factor
from hauch.core.predict.rig_loss import tunnel_resistance
from hauch.core.quantity import expanded
from hauch.desk.models import Around, Design, MeasuredBack
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from hauch.desk.tools.rotor_ducted import power_by_throttle
from hauch.entries.models import Entry, Prediction
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.rounds.queries import procedures_of
from hauch.rounds.queries import visible_to as visible_rounds
from hauch.stores.models import Rig
from hauch.verdict.models import StandingRow

NOTHING = Around()


def rigs() -> QuerySet[Rig]:
    """Rigs that a design can be put on."""
    return Rig.objects.current().order_by("kind", "name")


def resistance_of(rig: Rig | None) -> float:
    """What a rig takes from the part, over flow squared [Pa s2/m6]; 0 where a rig of its kind is
    not a system of its own.
    """
    if rig is None or rig.kind != "tunnel" or "bore" not in rig.constants:
        return 0.0

    def value(key, else_):
        return rig.constants.get(key, [else_])[0]

    return tunnel_resistance(
        value("bore", 0.0),
        value("length", 0.0),
        value("straightener_length", 0.0),
        value("cell", 0.0),
    )


def factors_of(tool: str, rig: Rig) -> dict[str, Factor]:
    """Factors that measurements on a rig, in any of its states, gave back to a tool, by figure."""
    rows = defaultdict(list)
    for row in MeasuredBack.objects.filter(tool=tool, rig__name=rig.name, withdrawn=False):
        rows[row.figure].append(Pair(row.predicted, row.measured, row.u_measured))
    return {figure: rig_factor(pairs) for figure, pairs in rows.items()}


def setting_for(tool: str, around: Around = NOTHING) -> Setting:
    """What surrounds a design, as its tool takes it."""
    rig, fit, load = around.rig, around.fit, around.load
    factors = factors_of(tool, rig) if rig else {}
    return Setting(
        rig.name if rig else "",
        resistance_of(rig) if TOOLS[tool].rig else 0.0,
        tuple(sorted(factors.items())),
        load_of(load) if load else (),
        tuple(sorted(fit.what.values.items())) if fit and fit.part in TOOLS[tool].parts else (),
        fit.title if fit else "",
    )


def load_of(design: Design) -> tuple[tuple[float, float], ...]:
    """Electrical power that a rotor takes by throttle (speed with throttle), from its own curve at
    its duty; empty where it has none.
    """
    return power_by_throttle(
        json.dumps(design.how.complete(design.inputs), sort_keys=True),
        setting_for("rotor", Around(design.rig)),
    )


def fitting_rounds(user: User, parts: Collection[str]) -> QuerySet[Round]:
    """Rounds of some kinds of part whose envelope a person may see."""
    return visible_rounds(user).filter(part__in=parts).order_by("number")


def designs_of(user: User, tool: str) -> QuerySet[Design]:
    """A person's designs of one tool, latest first."""
    return Design.objects.filter(owner=user, tool=tool).select_related("rig", "fit", "load__rig")


def entries_to_predict(user: User, parts: Collection[str] = ()) -> QuerySet[Entry]:
    """Entries to which a person may hand a prediction: their own and those of rounds that they
    host, while not published; of some kinds of part where they are given.
    """
    mine = Q(
        designer=user,
        round__memberships__user=user,
        round__memberships__role__in=["designer", "host"],
    )
    hosted = Q(round__memberships__user=user, round__memberships__role="host")
    open_rounds = Entry.objects.exclude(round__state=Round.State.PUBLISHED).filter(
        state=Entry.State.IN
    )
    if parts:
        open_rounds = open_rounds.filter(round__part__in=parts)
    return (
        open_rounds.filter(mine | hosted)
        .distinct()
        .select_related("round")
        .order_by("round__number", "name")
    )


@dataclass(frozen=True)
class Held:
    """One prediction held against what was measured."""

    prediction: Prediction
    procedure: Procedure
    measured: float | None
    u: float

    @property
    def entry(self) -> Entry:
        return self.prediction.version.entry

    @property
    def pair(self) -> Pair | None:
        """Prediction and measurement; None while nothing was measured."""
        if self.measured is None or (self.procedure.log and self.measured <= 0):
            return None
        return Pair(self.prediction.value, self.measured, self.u, self.procedure.log)

    @property
    def error(self) -> float | None:
        """In the unit in which changes of this kind are told."""
        return self.pair.error if self.pair else None

    @property
    def half(self) -> float | None:
        """Half-width of the prediction's 95 % interval, where a doubt was told."""
        return expanded(self.prediction.u) or None

    @property
    def u_half(self) -> float | None:
        """Half-width of the measurement's 95 % interval."""
        return expanded(self.u) or None

    @property
    def by(self) -> str:
        """Who or what predicted."""
        if self.prediction.model:
            tool = TOOLS.get(
                self.prediction.model
            )  # an imported round may name a tool that is not here
            return f"{tool.label if tool else self.prediction.model} model"
        return str(self.prediction.made_by or self.entry.designer_name)


def _cells(entries: list[int]) -> dict[int, dict[str, Any]]:
    """Latest measured cells of entries, by test key."""
    rows = (
        StandingRow.objects.filter(entry__in=entries)
        .select_related("standing__rules")
        .order_by("standing__rules__number")
    )
    return {row.entry_id: row.tests for row in rows}


def held_against(
    predictions: QuerySet[Prediction], user: User, roles: dict[int, str | None] | None = None
) -> list[Held]:
    """Predictions that a person may see, each with what was measured of the same version.

    Notes
    -----
    Predictions of others are shown from the first run on (sealed before), and only to members of
    the round who may see its verdict: host and operator always, everybody after publication,
    designers their own.
    """
    rows = list(
        predictions.select_related("version__entry__round", "made_by").order_by(
            "version__entry__round__number", "version__entry__name", "procedure", "source"
        )
    )
    roles = dict(user.memberships.values_list("round", "role")) if roles is None else roles
    rows = [p for p in rows if may_see(user, p, roles.get(p.version.entry.round_id))]
    cells = _cells([p.version.entry_id for p in rows])
    keys = _test_keys({p.version.entry.round_id for p in rows})
    procedures = procedures_of({p.procedure for p in rows})
    taking_part = versions_in(Entry.objects.filter(pk__in={p.version.entry_id for p in rows}))
    held = []
    for p in (p for p in rows if p.procedure in procedures):
        found = None
        if p.version.entry_id in taking_part and taking_part[p.version.entry_id].pk == p.version_id:
            tests = cells.get(p.version.entry_id, {})
            found = next(
                (
                    tests[k]
                    for k in keys.get((p.version.entry.round_id, p.procedure), [])
                    if k in tests
                ),
                None,
            )
        held.append(
            Held(
                p,
                procedures[p.procedure],
                found["value"] if found else None,
                (found or {}).get("u", 0.0) or 0.0,
            )
        )
    return held


def _test_keys(rounds: set[int]) -> dict[tuple[int, str], list[str]]:
    from hauch.rounds.models import Test

    found = defaultdict(list)
    for round_id, procedure, key in (
        Test.objects.filter(round__in=rounds)
        .order_by("order")
        .values_list("round_id", "procedure", "key")
    ):
        found[round_id, procedure].append(key)
    return found


def may_see(user: User, prediction: Prediction, role: str | None) -> bool:
    """Whether a person with a role in its round may see a prediction."""
    entry = prediction.version.entry
    if user.pk in {entry.designer_id, prediction.made_by_id}:
        return True
    if prediction.version.sealed_at is None:
        return False
    return role in {"host", "operator"} or (role is not None and entry.round.is_published)


@dataclass(frozen=True)
class Line:
    """Bias and scatter of one predictor in one kind of test."""

    by: str
    designer: int | None
    procedure: Procedure
    record: Record

    @property
    def half(self) -> float | None:
        """Half-width of the bias' 95 % interval; None for a single prediction."""
        return self.record.half if self.record.count > 1 else None


def lines_of(held: list[Held]) -> list[Line]:
    """Bias and scatter by predictor and kind of test, designers first, then models."""
    groups: dict[tuple[bool, str, int | None, str], list[Pair]] = defaultdict(list)
    procedures = {h.procedure.key: h.procedure for h in held}
    for h in held:
        if h.pair is not None:
            groups[
                bool(h.prediction.model),
                h.by,
                None if h.prediction.model else h.prediction.made_by_id,
                h.procedure.key,
            ].append(h.pair)
    return [
        Line(by, designer, procedures[key], record_of(pairs))
        for (_, by, designer, key), pairs in sorted(
            groups.items(), key=lambda g: (g[0][0], g[0][1], g[0][3])
        )
    ]
