"""What the demo's people worked out at the Desk: designs, predictions before the first runs, values
that the tunnel sent back.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from hauch.core import CORE_VERSION
from hauch.core.rig import Loft140
from hauch.demo.meshes import TRAYS, rotor_inputs
from hauch.demo.stores import START, people, uid
from hauch.desk.actions import predict_for, save_design
from hauch.desk.models import MeasuredBack
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from hauch.entries.models import Entry, Prediction
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.stores.models import Rig

# name, who drew it, blades, factor on chord and on pitch
ROTORS: list[tuple[str, str, int, float, float]] = [
    ("Distel", "alma", 9, 1.04, 1.04), ("Schwalbe", "runa", 5, 1.12, 1.06), ("Mohn", "runa", 7, 1.20, 0.96), ("Pusteblume", "runa", 15, 0.55, 0.90),
]  # fmt: skip

# what designers guessed of airflow, static pressure [factor on the reference], and power
GUESSES: dict[str, tuple[float, float, float]] = {
    "Distel": (1.10, 1.20, 1.00), "Schwalbe": (1.25, 1.30, 1.10), "Kamm": (1.15, 1.15, 1.00), "Weidenkorb": (1.12, 1.10, 0.95), "Zaunkönig": (1.05, 1.05, 1.00),
    "Mohn": (1.05, 1.00, 0.97), "Löffel": (1.10, 1.05, 1.00), "Pusteblume": (0.95, 0.95, 0.90),
}  # fmt: skip


def predict_cabinet(round: Round) -> None:
    """Predictions of round 1, as they were handed in before its first run."""
    who = people()
    flow = Loft140.working_flow(TRAYS, Loft140.speed, 1.2)
    ground = (
        flow,
        Loft140.pressure(flow, Loft140.speed, 1.2),
        Loft140.power(flow, Loft140.speed, 1.2),
    )
    entries = {e.name: e for e in round.entries.prefetch_related("versions")}
    for name, factors in GUESSES.items():
        for procedure, value, factor in zip(
            ("airflow", "static_pressure", "electrical_power"), ground, factors, strict=True
        ):
            _predicted(
                entries[name],
                procedure,
                value * factor,
                0.06 * value,
                "",
                {},
                who.get("alma") if entries[name].designer_id else None,
            )
    tool = TOOLS["rotor"]
    for name, owner, blades, chord, pitch in ROTORS:
        inputs = rotor_inputs(blades, chord, pitch)
        answer = tool.answer(inputs)
        save_design(who[owner], tool, f"{name}, blades", inputs)
        for procedure in ("airflow", "static_pressure", "electrical_power"):
            q = answer.figure(answer.predicts[procedure]).quantity
            _predicted(entries[name], procedure, q.value, q.u, "rotor", inputs, who[owner])


def _predicted(
    entry: Entry,
    procedure: str,
    value: float,
    u: float,
    model: str,
    inputs: Mapping[str, Any],
    by: User | None,
) -> None:
    version = list(entry.versions.all())[-1]
    Prediction.objects.create(
        uid=uid("prediction", entry.name, procedure, model),
        version=version,
        procedure=procedure,
        model=model,
        value=value,
        u=u,
        inputs=inputs,
        made_by=by,
        source=Prediction.Source.MODEL if model else Prediction.Source.DESIGNER,
        core_version=CORE_VERSION if model else "",
        made_at=START - timedelta(days=2),
    )


def load_desk() -> None:
    """Designs of the other rounds, predictions for the ring that is open, and what the tunnel sent
    back of the rotor model.
    """
    who = people()
    runa = who["runa"]
    shelf = TOOLS["duct"].start()
    save_design(runa, TOOLS["duct"], "Shelf splitter, even outlets", shelf)
    hushed = TOOLS["intake"].start()
    save_design(runa, TOOLS["intake"], "Roof inlet with bell mouth", hushed)
    save_design(
        runa,
        TOOLS["silencer"],
        "Against the 600 Hz whistle",
        TOOLS["silencer"].start() | {"length": 0.143},
    )
    save_design(runa, TOOLS["pack"], "Bench pack", TOOLS["pack"].start())
    ring = TOOLS["ring"]
    entries = {
        e.name: e
        for e in Round.objects.get(slug="packing-table-ring").entries.select_related("round")
    }
    for name, changes in (
        ("Heiligenschein", {"slot": 0.0008, "throat": 0.2, "exit": 0.212}),
        ("Nebelring", {"depth": 0.088, "exit": 0.198}),
    ):
        inputs = ring.start() | changes
        save_design(who["alma"] if name == "Heiligenschein" else runa, ring, name, inputs)
        predict_for(runa, ring, inputs, Setting(), entries[name].versions.get())
    tunnel = Rig.objects.current().filter(kind="tunnel").order_by("pk").first()
    if tunnel is None:
        return
    flow = Loft140.working_flow(TRAYS, Loft140.speed, 1.2)
    for name, _, blades, chord, pitch in ROTORS[:3]:
        predicted = (
            TOOLS["rotor"].answer(rotor_inputs(blades, chord, pitch)).figure("flow").quantity.value
        )
        measured = flow * {"Distel": 1.09, "Schwalbe": 1.13, "Mohn": 0.988}[name]
        MeasuredBack.objects.create(
            tool="rotor",
            figure="flow",
            rig=tunnel,
            design_name=f"{name}, blades",
            predicted=predicted,
            measured=measured,
            u_measured=0.012 * measured,
            sent_by=runa,
            sent_at=START + timedelta(days=6),
        )
