"""What several rigs share: their leak, the measuring orifice, a row of places, cautions."""

from __future__ import annotations

import math

import numpy as np

from hauch.core.air import STANDARD_DENSITY
from hauch.core.measure.calibration import leak_flow
from hauch.core.measure.laws import Law
from hauch.core.measure.meter import read
from hauch.core.measure.rigs.base import Constant
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.tunnel import round_area
from hauch.core.quantity import Influence, Quantity, Step, derive, exact, measured

LEAK = (
    Constant("leak_coefficient", "Leak at 1 Pa", "volume_flow", 0.0, 0.1, found="blank_plate"),
    Constant(
        "leak_exponent", "Exponent of the leak", "number", 0.4, 1.2, 0.65, found="blank_plate"
    ),
)
SPIN = "Run behind the guard, stand out of the plane of the rotor, wear eye protection, start low."


def leak_put_back(run: RunInput, flow: Quantity) -> Quantity:
    """What leaks out between part and sensor belongs to the part's flow; only where the pressure
    there was read.
    """
    if not leaks(run) or not run.has("static_pressure"):
        return flow
    return derive(
        "Leak of the rig put back",
        "Q + C Δp^n",
        lambda q, p, c, n: q + leak_flow(max(p, 0.0), c, n),
        {"q": flow, "p": run.mean("static_pressure"), **leak_of(run)},
        "m3/s",
        "blank-plate test of this rig; ISO 9972:2015, eq. 5",
        symbols={"q": "Q", "p": "Δp", "c": "C"},
    )


def leaks(run: RunInput) -> bool:
    """Whether the rig is known to leak."""
    return run.rig.get("leak_coefficient", (0.0, 0.0))[0] > 0


def leak_of(run: RunInput) -> dict[str, Quantity]:
    """Coefficient and exponent of the rig's leak, as inputs of a formula."""
    return {
        "c": run.constant("leak_coefficient", "leak at 1 Pa", "m3/s"),
        "n": run.constant("leak_exponent", "exponent of the leak", ""),
    }


def orifice_flow(run: RunInput) -> Quantity:
    """Flow [m3/s] through the rig's measuring orifice."""
    coefficient = run.constant("orifice_coefficient", "flow coefficient of the orifice", "")
    bore = run.constant("orifice", "bore of the orifice", "m")
    return derive(
        "Flow through the orifice",
        "Q = α π/4 d² √(2 Δp_o / ρ)",
        lambda a, d, p, rho: a * round_area(d) * math.sqrt(2 * max(p, 0.0) / rho),
        {"a": coefficient, "d": bore, "p": run.mean("orifice_pressure"), "rho": run.density()},
        "m3/s",
        "ISO 5167-1:2022, eq. 1, incompressible; coefficient of this bench",
        symbols={"a": "α", "p": "Δp_o", "rho": "ρ"},
    )


def by_place(run: RunInput, channel: str) -> dict[str, Quantity]:
    """Mean at each place of a map, a row of outlets or a panel; every place that the rig has must
    be there.
    """
    places = int(run.rig.get("places", (0.0, 0.0))[0])
    positions = np.asarray(run.positions.get(channel, ()))
    if places < 1:
        raise NoResult("The rig does not say how many places there are. Enter it in Stores.")
    missing = [str(p) for p in range(1, places + 1) if p not in positions]
    if missing:
        raise NoResult(
            f"Nothing was read at place {', '.join(missing)} of {places}. Read every place, in"
            " order."
        )
    values, meter = np.asarray(run.readings[channel], float), run.meter(channel)
    return {
        f"x{p}": read(channel, values[positions == p], meter, f"{run.run}:place{p}")
        for p in range(1, places + 1)
    }


STANDARD_GRAVITY = 9.80665
"""Standard acceleration of free fall [m/s2], ISO 80000-3."""


def converted(run: RunInput, figure: Quantity, law: Law, symbol: str) -> Quantity:
    """A figure in standard air of 1.2 kg/m3 and at the common speed, where one is agreed.

    Parameters
    ----------
    law : how the figure goes with density and speed
    symbol : how the figure is written in a formula
    """
    if run.as_read:
        return figure
    if law.density:
        figure = derive(
            "To standard air",
            f"{symbol}₀ = {symbol} 1.2 / ρ{law.condition}",
            lambda x, rho, rho_0: law.scaled(x, density_ratio=rho_0 / rho),
            {"x": figure, "rho": run.density(), "rho_0": exact(STANDARD_DENSITY, "kg/m3")},
            figure.unit,
            law.source,
            symbols={"x": symbol, "rho": "ρ", "rho_0": "ρ₀"},
            note=law.said,
        )
    return run.at_common_speed(figure, law, symbol) if law.speed else figure


ONE_RANKING = 30.0
"""Standard uncertainty of a place that one person alone gave [%]: places at random scatter by 100 /
sqrt(12).
"""


def mean_place(run: RunInput, channel: str, who: str, nobody: str) -> Quantity:
    """Mean place that several people gave blind [%]: 0 the best end, 100 the other; doubt from how far
    they disagree.

    Parameters
    ----------
    who : in the plural, such as listeners
    nobody : said where nobody ranked it

    Raises
    ------
    NoResult : nobody ranked it
    """
    given = np.asarray(run.readings.get(channel, ()), float)
    if not given.size:
        raise NoResult(nobody)
    mean, count = float(given.mean()), given.size
    cause = Influence(f"run:{run.run}:{who}", f"{who} disagree", "own", "A", max(count - 1.0, 1.0))
    scatter = float(given.std(ddof=1)) / math.sqrt(count) if count > 1 else ONE_RANKING
    note = f"{count} {who}" if count > 1 else f"one of the {who}: others may think otherwise"
    return measured(mean, "%", [(cause, scatter)]).with_step(
        Step(
            f"Mean place by {who}",
            "100/n Σ (r − ½) / k",
            (("n", float(count), ""),),
            mean,
            "%",
            "JCGM 100:2008, 4.2.1",
            note,
        )
    )
