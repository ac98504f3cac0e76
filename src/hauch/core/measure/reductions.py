"""Reductions: how the readings of one run become its comparable figure, one function for each
procedure.

A figure that cannot be had raises `NoResult` with the reason.
"""

from __future__ import annotations

import math

import numpy as np

from hauch.core.air import STANDARD_DENSITY
from hauch.core.measure import laws, tunnel
from hauch.core.measure.calibration import leak_flow
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, Step, derive, exact, measured
from hauch.core.sound.level import BackgroundTooLoud, at_distance, without_background


def _air_speed(run: RunInput) -> Quantity:
    if run.has("pitot_pressure") and not run.has("air_speed"):
        return derive(
            "Air speed from the pitot tube",
            "v = √(2 Δp / ρ)",
            lambda p, rho: tunnel.pitot_speed(max(p, 0.0), rho),
            {"p": run.mean("pitot_pressure"), "rho": run.density()},
            "m/s",
            "ISO 3966:2020, 12.1",
            symbols={"p": "Δp", "rho": "ρ"},
        )
    speed = run.mean("air_speed")
    meter = run.meters["air_speed"] if "air_speed" in run.meters else Meter("", "")
    if meter.principle == "hot_wire":
        return derive(
            "Hot wire to the room's air",
            "v = v_ind ρ₀ / ρ",
            lambda v, rho, rho_0: v * rho_0 / rho,
            {"v": speed, "rho": run.density(), "rho_0": exact(meter.calibration_density, "kg/m3")},
            "m/s",
            "a hot wire indicates mass flux ρ v: L. V. King, Phil. Trans. R. Soc. A 214 (1914) 373",
            symbols={"v": "v_ind", "rho": "ρ", "rho_0": "ρ₀"},
        )
    return speed


def _traverse(run: RunInput) -> Quantity | None:
    positions = run.positions.get("air_speed")
    if positions is None or len(set(positions)) < 2:
        return None
    values, points = np.asarray(run.readings["air_speed"], float), np.asarray(positions)
    means = {
        f"v{p}": read(
            "air_speed", values[points == p], run.meters["air_speed"], f"{run.run}:point{p}"
        )
        for p in sorted(set(positions))
    }
    return derive(
        "Traverse mean",
        "v̄ = 1/n Σ vᵢ",
        lambda **v: float(tunnel.traverse_mean(list(v.values()))),
        means,
        "m/s",
        "ISO 3966:2020, 9.2: points of equal weight",
    )


def airflow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] of a tunnel run: speed, profile, area, common speed where agreed."""
    bore = run.constant("bore", "bore of the tube", "m")
    traversed = _traverse(run)
    if traversed is not None:
        flow = derive(
            "Volume flow",
            "Q = π/4 d² v̄",
            lambda v, d: tunnel.round_area(d) * v,
            {"v": traversed, "d": bore},
            "m3/s",
            "ISO 3966:2020, 4.2",
            symbols={"v": "v̄"},
        )
    else:
        factor = run.constant("profile_factor", "profile factor of the tube", "")
        flow = derive(
            "Volume flow",
            "Q = k π/4 d² v",
            lambda v, k, d: k * tunnel.round_area(d) * v,
            {"v": _air_speed(run), "k": factor, "d": bore},
            "m3/s",
            "ISO 3966:2020: one centre point, profile factor from the rig's own traverse",
        )
    flow = _leak_put_back(run, flow)
    return run.at_common_speed(
        flow, "Q ~ n", lambda q, n, n_c: laws.flow_at_speed(q, n, n_c), "flow goes with speed"
    )


def _leak_put_back(run: RunInput, flow: Quantity) -> Quantity:
    """What leaks out between part and sensor belongs to the part's flow; only where the pressure
    there was read.
    """
    if not _leaks(run) or not run.has("static_pressure"):
        return flow
    return derive(
        "Leak of the rig put back",
        "Q + C Δp^n",
        lambda q, p, c, n: q + leak_flow(max(p, 0.0), c, n),
        {"q": flow, "p": run.mean("static_pressure"), **_leak_of(run)},
        "m3/s",
        "blank-plate test of this rig; ISO 9972:2015, eq. 5",
        symbols={"q": "Q", "p": "Δp", "c": "C"},
    )


def _leaks(run: RunInput) -> bool:
    return run.rig.get("leak_coefficient", (0.0, 0.0))[0] > 0


def _orifice_flow(run: RunInput) -> Quantity:
    """Flow [m3/s] through the rig's measuring orifice."""
    coefficient = run.constant("orifice_coefficient", "flow coefficient of the orifice", "")
    bore = run.constant("orifice", "bore of the orifice", "m")
    return derive(
        "Flow through the orifice",
        "Q = α π/4 d² √(2 Δp_o / ρ)",
        lambda a, d, p, rho: a * tunnel.round_area(d) * math.sqrt(2 * max(p, 0.0) / rho),
        {"a": coefficient, "d": bore, "p": run.mean("orifice_pressure"), "rho": run.density()},
        "m3/s",
        "ISO 5167-1:2022, eq. 1, incompressible; coefficient of this bench",
        symbols={"a": "α", "p": "Δp_o", "rho": "ρ"},
    )


def chamber_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] of a part that blows into a chamber: what the orifice passes and what
    leaks out of the chamber, at the common speed where agreed.
    """
    flow = _leak_put_back(run, _orifice_flow(run))
    return run.at_common_speed(
        flow, "Q ~ n", lambda q, n, n_c: laws.flow_at_speed(q, n, n_c), "flow goes with speed"
    )


def bench_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] through a test piece on a flow bench: what the orifice passes less what
    leaks in behind the piece.
    """
    flow = _orifice_flow(run)
    if not _leaks(run):
        return flow
    return derive(
        "Leak of the bench taken off",
        "Q − C Δp^n",
        lambda q, p, c, n: q - leak_flow(max(p, 0.0), c, n),
        {"q": flow, "p": run.mean("test_depression"), **_leak_of(run)},
        "m3/s",
        "blank-plate test of this bench; ISO 9972:2015, eq. 5",
        symbols={"q": "Q", "p": "Δp", "c": "C"},
    )


def bench_loss(run: RunInput) -> Quantity:
    """Pressure loss [Pa] of a test piece on a flow bench, in standard air at equal flow."""
    return derive(
        "To standard air",
        "Δp₀ = Δp 1.2 / ρ at equal flow",
        lambda p, rho, rho_0: p * rho_0 / rho,
        {
            "p": run.mean("test_depression"),
            "rho": run.density(),
            "rho_0": exact(STANDARD_DENSITY, "kg/m3"),
        },
        "Pa",
        "Δp ~ ρ Q²",
        symbols={"p": "Δp", "rho": "ρ", "rho_0": "ρ₀"},
    )


def _leak_of(run: RunInput) -> dict[str, Quantity]:
    return {
        "c": run.constant("leak_coefficient", "leak at 1 Pa", "m3/s"),
        "n": run.constant("leak_exponent", "exponent of the leak", ""),
    }


def static_pressure(run: RunInput) -> Quantity:
    """Static pressure [Pa] in standard air of 1.2 kg/m3, at the common speed where agreed."""
    p = run.mean("static_pressure")
    standard = derive(
        "To standard air",
        "Δp₀ = Δp 1.2 / ρ",
        lambda p, rho, rho_0: p * rho_0 / rho,
        {"p": p, "rho": run.density(), "rho_0": exact(STANDARD_DENSITY, "kg/m3")},
        "Pa",
        "ISO 5801:2017, 15.3",
        symbols={"p": "Δp", "rho": "ρ", "rho_0": "ρ₀"},
    )
    return run.at_common_speed(
        standard,
        "Δp ~ n²",
        lambda q, n, n_c: laws.pressure_at_speed(q, n, n_c, 1.0, 1.0),
        "pressure goes with speed squared",
    )


def sound_level(run: RunInput) -> Quantity:
    """A-weighted level [dB(A)] without the background, at the reporting distance where agreed."""
    total = run.mean("sound_level")
    if not run.has("background_level"):
        raise NoResult(
            "The background level was not read. Switch the part off, read the room, and add it to"
            " this run."
        )
    background = run.mean("background_level")
    try:
        without_background(total.value, background.value)
    except BackgroundTooLoud as problem:
        raise NoResult(str(problem)) from problem
    # The meter's own error is in both readings; the subtraction carries it once, since the cause
    # has the same key.
    level = derive(
        "Without the background",
        "L = 10 lg (10^(L₁/10) − 10^(L₂/10))",
        _subtract,
        {"total": total, "background": background},
        "dB(A)",
        "ISO 3744:2010, 8.2.3",
        symbols={"total": "L₁", "background": "L₂"},
        note=(
            ""
            if total.value - background.value >= 6
            else "Background within 6 dB: grade 3 (ISO 3746)."
        ),
    )
    if run.reporting_distance is None:
        return level
    return derive(
        "To the reporting distance",
        "L − 20 lg (r / r₀)",
        lambda L, r0, r: at_distance(L, r0, r),
        {
            "L": level,
            "r0": run.constant("distance", "distance of the sound level meter", "m"),
            "r": exact(run.reporting_distance, "m"),
        },
        "dB(A)",
        "inverse square law: small source, free field assumed",
        symbols={"r0": "r₀"},
    )


def _subtract(total: float, background: float) -> float:
    return without_background(total, min(background, total - 1.0))


def temperature_rise(run: RunInput) -> Quantity:
    """Rise of the load over the room [K], settled."""
    return derive(
        "Rise over the room",
        "ΔT = T_load − T_room",
        lambda load, room: load - room,
        {"load": run.mean("load_temperature"), "room": run.mean("room_temperature")},
        "K",
        "both read at the same moments",
        symbols={"load": "T_load", "room": "T_room"},
    )


def electrical_power(run: RunInput) -> Quantity:
    """Electrical input power [W] without the supply's standby, at the common speed where agreed."""
    if run.has("power"):
        power = run.mean("power")
    else:
        power = derive(
            "Direct current power",
            "P = U I",
            lambda U, I: U * I,  # noqa: E741
            {"U": run.mean("voltage"), "I": run.mean("current")},
            "W",
            "definition of electrical power, direct current",
        )
    if run.rig.get("standby_power", (0.0, 0.0))[0] > 0:
        power = derive(
            "Standby taken off",
            "P = P₁ − P₀",
            lambda P, P0: P - P0,
            {"P": power, "P0": run.constant("standby_power", "standby power", "W")},
            "W",
            "supply read without the part",
            symbols={"P": "P₁", "P0": "P₀"},
        )
    if power.value <= 0:
        raise NoResult(
            f"The electrical power comes out as {power.value:.3g} W. Check the voltage, the current"
            " and the standby power."
        )
    return run.at_common_speed(
        power,
        "P ~ n³",
        lambda q, n, n_c: laws.power_at_speed(q, n, n_c, 1.0, 1.0),
        "power goes with speed cubed",
    )


def effective_area(run: RunInput) -> Quantity:
    """Effective area [m2] of the test piece on a flow bench: more is less restriction.

    Q from the orifice, less the bench's leak, over the ideal speed at the depression; valid below
    about 5 kPa, where air is nearly incompressible (error below 2 %).
    """
    orifice, depression, density = (
        run.mean("orifice_pressure"),
        run.mean("test_depression"),
        run.density(),
    )
    if orifice.value <= 0 or depression.value <= 0:
        raise NoResult(
            "The pressure across the orifice and the depression must both be above 0. Check the"
            " tubes and start the suction."
        )
    flow = bench_flow(run)
    if flow.value <= 0:
        raise NoResult(
            "All the flow is the bench's own leak. Open the test piece, or measure the leak again."
        )
    return derive(
        "Effective area",
        "A = Q / √(2 Δp / ρ)",
        lambda q, p, rho: q / math.sqrt(2 * p / rho),
        {"q": flow, "p": depression, "rho": density},
        "m2",
        "Bernoulli, no losses: the area that would pass this flow",
        symbols={"q": "Q", "p": "Δp", "rho": "ρ"},
    )


def _by_place(run: RunInput, channel: str) -> dict[str, Quantity]:
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
    values, meter = (
        np.asarray(run.readings[channel], float),
        run.meters.get(channel, Meter("", "no meter")),
    )
    return {
        f"x{p}": read(channel, values[positions == p], meter, f"{run.run}:place{p}")
        for p in range(1, places + 1)
    }


def jet_speed(run: RunInput) -> Quantity:
    """Mean air speed [m/s] over the grid at the rig's distance, at the common speed where agreed."""
    means = _by_place(run, "air_speed")
    mean = derive(
        "Mean over the grid",
        "v̄ = 1/n Σ vᵢ",
        lambda **x: sum(x.values()) / len(x),
        means,
        "m/s",
        "places of equal area",
    )
    return run.at_common_speed(
        mean,
        "v ~ n",
        lambda q, n, n_c: laws.flow_at_speed(q, n, n_c),
        "speed of the air goes with speed of the rotor",
    )


def imbalance(run: RunInput) -> Quantity:
    """Imbalance of a row of outlets [%]: largest less smallest speed, over their mean; one meter
    reads all, so its slope cancels.
    """
    means = _by_place(run, "air_speed")
    return derive(
        "Imbalance of the outlets",
        "100 (v_max − v_min) / v̄",
        lambda **x: 100 * (max(x.values()) - min(x.values())) * len(x) / sum(x.values()),
        means,
        "%",
        "definition; outlets of equal area",
    )


def bag_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] from the time in which a bag of known volume fills."""
    return derive(
        "Flow into the bag",
        "Q = V / t",
        lambda v, t: v / t,
        {"v": run.constant("bag_volume", "volume of the bag", "m3"), "t": run.mean("fill_time")},
        "m3/s",
        "definition of volume flow",
        note="Spill and the bag's weight make it read low; it compares parts of one kind.",
        symbols={"v": "V"},
    )


def shaft_power(run: RunInput) -> Quantity:
    """Shaft power [W] that the part absorbs: torque with it less torque without it, times speed, at
    the common speed where agreed.
    """
    power = derive(
        "Absorbed shaft power",
        "P = 2π n (M − M₀)",
        lambda torque, tare, n: 2 * math.pi * n / 60 * (torque - tare),
        {"torque": run.mean("torque"), "tare": run.mean("tare_torque"), "n": run.mean("speed")},
        "W",
        "power of a turning shaft; drive without the part taken off",
        symbols={"torque": "M", "tare": "M₀"},
    )
    if power.value <= 0:
        raise NoResult(
            f"The shaft power comes out as {power.value:.3g} W: the torque with the part must be"
            " above the torque without it."
        )
    return run.at_common_speed(
        power,
        "P ~ n³",
        lambda q, n, n_c: laws.power_at_speed(q, n, n_c, 1.0, 1.0),
        "power goes with speed cubed",
    )


def plate_pressure(run: RunInput) -> Quantity:
    """Pressure [Pa] over the area that a scale carries, in standard air, at the common speed where
    agreed.
    """
    mass = run.mean("scale_mass")
    if mass.value <= 0:
        raise NoResult(
            "The scale reads nothing or less. Zero it with the part at rest, and check which way"
            " the force acts."
        )
    pressure = derive(
        "Pressure on the scale",
        "p = m g / A",
        lambda m, g, a: m * g / a,
        {
            "m": mass,
            "g": exact(STANDARD_GRAVITY, "m/s2"),
            "a": run.constant("plate_area", "area under pressure", "m2"),
        },
        "Pa",
        "force over area; standard gravity of ISO 80000-3",
        symbols={"a": "A"},
    )
    standard = derive(
        "To standard air",
        "p₀ = p 1.2 / ρ",
        lambda p, rho, rho_0: p * rho_0 / rho,
        {"p": pressure, "rho": run.density(), "rho_0": exact(STANDARD_DENSITY, "kg/m3")},
        "Pa",
        "ISO 5801:2017, 15.3",
        symbols={"rho": "ρ", "rho_0": "ρ₀"},
    )
    return run.at_common_speed(
        standard,
        "p ~ n²",
        lambda q, n, n_c: laws.pressure_at_speed(q, n, n_c, 1.0, 1.0),
        "pressure goes with speed squared",
    )


STANDARD_GRAVITY = 9.80665
"""Standard acceleration of free fall [m/s2], ISO 80000-3."""


def hover_gap(run: RunInput) -> Quantity:
    """Hover gap [m] under the rig's load."""
    gap = run.mean("gap")
    if gap.value <= 0:
        raise NoResult(
            "The gap is 0: the cushion did not lift. Record it as did not finish, or take weights"
            " off."
        )
    return gap


def panel_points(run: RunInput) -> Quantity:
    """Mean points [points] of the judges, each judge's own mean counting once; doubt from how far
    they disagree.
    """
    places = int(run.rig.get("places", (0.0, 0.0))[0])
    positions, values = (
        np.asarray(run.positions.get("panel_points", ())),
        np.asarray(run.readings.get("panel_points", ()), float),
    )
    judges = [
        float(values[positions == p].mean()) for p in sorted(set(positions.tolist())) if p >= 1
    ]
    if len(judges) < max(places, 1):
        raise NoResult(
            f"{len(judges)} of {places} judges gave points. Enter the points of every judge, in"
            " order."
        )
    mean = float(np.mean(judges))
    scatter = float(np.std(judges, ddof=1)) / math.sqrt(len(judges)) if len(judges) > 1 else 0.0
    cause = Influence(
        f"run:{run.run}:panel:scatter", "judges disagree", "own", "A", max(len(judges) - 1.0, 1.0)
    )
    note = f"{len(judges)} judges, {min(judges):g} to {max(judges):g} points"
    return measured(mean, "points", [(cause, scatter)]).with_step(
        Step(
            "Mean of the judges",
            "x̄ = 1/J Σ x̄ⱼ",
            (("J", float(len(judges)), ""),),
            mean,
            "points",
            "JCGM 100:2008, 4.2.1",
            note,
        )
    )


def vibration(run: RunInput) -> Quantity:
    """Vibration velocity r.m.s. [m/s] at the bearing, with the category that it keeps."""
    value = run.mean("vibration")
    flexible = run.rig.get("flexible", (0.0, 0.0))[0] >= 0.5
    kept = category(value.value, flexible)
    note = f"{'flexible' if flexible else 'rigid'} mounting: " + (
        f"keeps {kept}" if kept else "keeps no category, balance it again"
    )
    return derive(
        "Balance category",
        "v ≤ v_limit",
        lambda v: v,
        {"v": value},
        "m/s r.m.s.",
        "ISO 14694:2003, table 4 (r.m.s., test at the maker's works)",
        note=note,
    )


CATEGORIES = {
    "BV-5": (0.0014, 0.0018),
    "BV-4": (0.0018, 0.0028),
    "BV-3": (0.0028, 0.0035),
    "BV-2": (0.0035, 0.0056),
    "BV-1": (0.0090, 0.0112),
}
"""Most vibration velocity r.m.s. [m/s] of each category, rigidly and flexibly mounted (ISO
14694:2003, table 4).
"""


def category(velocity: float, flexible: bool) -> str:
    """The strictest category that a velocity r.m.s. [m/s] keeps; empty where it keeps none. NaN
    keeps none.
    """
    return next((key for key, limits in CATEGORIES.items() if velocity <= limits[flexible]), "")


def thermal_resistance(run: RunInput) -> Quantity:
    """Thermal resistance [K/W] of the cooled load: rise over the room by the heat that it gives
    off.
    """
    heat = run.mean("power") if run.has("power") else run.constant("heat", "heat of the load", "W")
    if heat.value <= 0:
        raise NoResult(
            "The heat of the load is 0 W, so it has no thermal resistance. Switch the heater on, or"
            " enter its heat in Stores."
        )
    rise = derive(
        "Rise over the room",
        "ΔT = T_load − T_room",
        lambda load, room: load - room,
        {"load": run.mean("load_temperature"), "room": run.mean("room_temperature")},
        "K",
        "both read at the same moments",
        symbols={"load": "T_load", "room": "T_room"},
    )
    return derive(
        "Thermal resistance",
        "R_th = ΔT / P",
        lambda rise, heat: rise / heat,
        {"rise": rise, "heat": heat},
        "K/W",
        "definition",
        symbols={"rise": "ΔT", "heat": "P"},
    )


def thrust(run: RunInput) -> Quantity:
    """Thrust [N] from a scale, in standard air, at the common speed where agreed."""
    mass = run.mean("scale_mass")
    if mass.value <= 0:
        raise NoResult(
            "The scale reads nothing or less. Zero it with the part at rest, and check which way"
            " the force acts."
        )
    force = derive(
        "Thrust",
        "F = m g",
        lambda m, g: m * g,
        {"m": mass, "g": exact(STANDARD_GRAVITY, "m/s2")},
        "N",
        "standard gravity of ISO 80000-3",
    )
    standard = derive(
        "To standard air",
        "F₀ = F 1.2 / ρ",
        lambda f, rho, rho_0: f * rho_0 / rho,
        {"f": force, "rho": run.density(), "rho_0": exact(STANDARD_DENSITY, "kg/m3")},
        "N",
        "ISO 5801:2017, 15.3",
        symbols={"f": "F", "rho": "ρ", "rho_0": "ρ₀"},
    )
    return run.at_common_speed(
        standard,
        "F ~ n²",
        lambda q, n, n_c: laws.pressure_at_speed(q, n, n_c, 1.0, 1.0),
        "thrust goes with speed squared",
    )
