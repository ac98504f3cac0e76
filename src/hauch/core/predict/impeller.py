"""A centrifugal impeller in a plenum or a volute.

References
----------
Euler head and slip: F. J. Wiesner, "A review of slip factors for centrifugal impellers", J. Eng.
    Power 89 (1967) 558, eqs. 4 and 7.
Inlet shock: O. Conrad, K. Raif, M. Wessels, ASME (1980), 0.5 to 0.7 of the tangential mismatch.
    Passage friction: Darcy with the
hydraulic diameter. Disc friction: J. W. Daily, R. E. Nece, J. Basic Eng. 82 (1960) 217, regime IV.
    Recovery in volutes: B. Eck, Fans (1973), ch. X.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from fluids.friction import friction_factor
from numpy.typing import NDArray

from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse
from hauch.core.predict.rotor import RotorCurve

Array = NDArray[np.float64]

SHOCK = 0.6
"""Share of the velocity head of the tangential mismatch that is lost at the inlet."""
OUTLETS = {
    "volute": ("Volute", 0.5),
    "plenum": ("Plenum", 0.0),
    "diffuser": ("Vaned diffuser", 0.65),
}
"""What follows the wheel: name, share of the head of the outgoing swirl that becomes pressure."""
LEAK = 0.04
"""Share of the flow that runs back through the gap at the eye."""
ROUGHNESS = 8e-5
"""Of a printed wall [m]: half of a common layer height of 0.16 mm."""
DOUBTS = {"pressure": 0.12, "torque": 0.12}


@dataclass(frozen=True, slots=True)
class Impeller:
    """A centrifugal wheel: number of blades, diameters of eye, blade inlet and outlet, widths [m],
    blade angles from the tangent [rad].
    """

    blades: int
    eye: float
    inner: float
    outer: float
    inner_width: float
    outer_width: float
    inner_angle: float
    outer_angle: float
    thickness: float
    outlet: str = "volute"

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found: dict[str, str] = {}

        def mm(v):
            return f"{1000 * v:.4g} mm"

        for key in ("eye", "inner", "outer", "inner_width", "outer_width", "thickness"):
            if not getattr(self, key) > 0:
                found[key] = (
                    f"{key.replace('_', ' ').capitalize()} is {mm(getattr(self, key))}; it must be"
                    " above 0."
                )
        if found:
            return found
        if not 2 <= self.blades <= 80:
            found["blades"] = f"{self.blades} blades cannot be; a wheel has 2 to 80."
        if self.inner >= self.outer:
            found["outer"] = (
                f"The outer diameter ({mm(self.outer)}) must be larger than the blades' inner one"
                f" ({mm(self.inner)})."
            )
        if self.eye > self.inner * 1.02:
            found["eye"] = (
                f"The eye ({mm(self.eye)}) is wider than the circle on which the blades begin"
                f" ({mm(self.inner)})."
            )
        for key in ("inner_angle", "outer_angle"):
            if not math.radians(5) <= getattr(self, key) <= math.radians(160):
                found[key] = (
                    f"A blade angle of {math.degrees(getattr(self, key)):.0f}° cannot be; it lies"
                    " between 5° and 160° from the tangent."
                )
        room = math.pi * self.inner / max(self.blades, 1) * math.sin(self.inner_angle)
        if not found and room <= self.thickness:
            found["blades"] = (
                f"The blades overlap at their inlet: {mm(room)} from blade to blade, which are"
                f" {mm(self.thickness)} thick. Take fewer or thinner blades or a larger inlet"
                " angle."
            )
        return found


def wiesner_slip(angle: float, blades: int, ratio: float) -> float:
    """Slip factor: sigma = 1 - sqrt(sin b) / Z^0.7, lowered where the blades begin far out (Wiesner
    1967, eqs. 4, 7).

    Parameters
    ----------
    angle : of the blade at the outlet from the tangent [rad]
    blades : Z
    ratio : inner over outer diameter of the blades
    """
    sigma = 1 - math.sqrt(math.sin(angle)) / blades**0.7
    limit = math.exp(-8.16 * math.sin(angle) / blades)
    if ratio > limit:
        sigma *= 1 - ((ratio - limit) / (1 - limit)) ** 3
    return sigma


def impeller_curve(
    wheel: Impeller, speed: float, flows: int | Array = 25, density: float = AIR_DENSITY
) -> RotorCurve:
    """The curve of a wheel at a speed, fan pressures in the sense of ISO 5801.

    Raises
    ------
    CannotBe : geometry that cannot be

    Notes
    -----
    Static pressure is Euler's work less what is lost: shock at the inlet, friction and slowing in
    the passages, the outgoing velocity as far as the outlet does not recover it. Below about 40 %
    of the flow of best efficiency the air turns back in the wheel and the curve is only a guide.
    """
    found = wheel.problems()
    if not speed > 0:
        found["speed"] = f"The speed is {speed:g} 1/min; it must be above 0."
    refuse(found)
    omega = 2 * math.pi * speed / 60
    tip, root = omega * wheel.outer / 2, omega * wheel.inner / 2
    slip = wiesner_slip(wheel.outer_angle, wheel.blades, wheel.inner / wheel.outer)

    def free(d, angle):
        return 1 - wheel.blades * wheel.thickness / (math.pi * d * math.sin(angle))

    out_area = (
        math.pi * wheel.outer * wheel.outer_width * max(free(wheel.outer, wheel.outer_angle), 0.2)
    )
    in_area = (
        math.pi * wheel.inner * wheel.inner_width * max(free(wheel.inner, wheel.inner_angle), 0.2)
    )
    if isinstance(flows, int):
        angle = min(wheel.outer_angle, math.radians(75))
        most = slip * tip * math.tan(angle) * out_area
        flow = min(most, 0.9 * tip * math.pi / 4 * wheel.eye**2) * np.linspace(0.02, 1.0, flows)
    else:
        flow = np.asarray(flows, float)
    through = flow * (1 + LEAK)
    radial_out, radial_in = through / out_area, through / in_area
    swirl = slip * tip - radial_out / math.tan(wheel.outer_angle)
    loading = _loading_loss(wheel, tip, swirl, radial_in, radial_out, root) * density
    work = density * tip * swirl
    shock = SHOCK * density / 2 * (root - radial_in / math.tan(wheel.inner_angle)) ** 2
    friction = _passage_friction(wheel, radial_in, radial_out, density)
    eye = (
        0.3 * density / 2 * (through / (math.pi / 4 * wheel.eye**2)) ** 2
    )  # turn from axial to radial, Idelchik ch. 6
    head = density / 2 * (swirl**2 + radial_out**2)
    static = (
        work
        - shock
        - friction
        - loading
        - eye
        - head
        + OUTLETS[wheel.outlet][1] * density / 2 * swirl**2
    )
    reynolds = density * omega * (wheel.outer / 2) ** 2 / AIR_VISCOSITY
    disc = 0.5 * (0.0622 * reynolds**-0.2) * density * omega**2 * (wheel.outer / 2) ** 5
    torque = work * through / omega + disc
    outlet = (
        density / 2 * (flow / (math.pi / 4 * wheel.eye**2)) ** 2
    )  # the outlet is taken as large as the eye
    kept = head - OUTLETS[wheel.outlet][1] * density / 2 * swirl**2  # what is left to leave with
    return RotorCurve(
        flow,
        static + np.minimum(outlet, kept),
        static,
        static,
        torque,
        torque * omega,
        np.zeros(len(flow)),
        (),
        speed,
        density,
    )


def _loading_loss(
    wheel: Impeller, tip: float, swirl: Array, radial_in: Array, radial_out: Array, root: float
) -> Array:
    """Loss by the slowing of the relative flow [J/kg]: 0.05 Df2 U2 2 (J. E. Coppage et al., WADC TR
    55-257 (1956)).
    """
    before, after = np.hypot(root, radial_in), np.hypot(tip - swirl, radial_out)
    ratio = wheel.inner / wheel.outer
    spread = (before / after) * (wheel.blades / math.pi * (1 - ratio) + 2 * ratio)
    diffusion = 1 - after / before + 0.75 * (swirl / tip) / spread
    return 0.05 * np.clip(diffusion, 0, 2) ** 2 * tip**2


def _passage_friction(
    wheel: Impeller, radial_in: Array, radial_out: Array, density: float
) -> Array:
    """Friction of the blade passages [Pa], with the mean relative velocity."""
    relative = 0.5 * (
        radial_in / math.sin(wheel.inner_angle) + radial_out / math.sin(wheel.outer_angle)
    )
    angle = 0.5 * (wheel.inner_angle + wheel.outer_angle)
    length = (wheel.outer - wheel.inner) / 2 / math.sin(angle)
    width = 0.5 * (wheel.inner_width + wheel.outer_width)
    gap = math.pi * 0.5 * (wheel.inner + wheel.outer) / wheel.blades * math.sin(angle)
    hydraulic = 2 * width * gap / (width + gap)
    factors = np.array(
        [
            friction_factor(
                Re=max(density * w * hydraulic / AIR_VISCOSITY, 1.0), eD=ROUGHNESS / hydraulic
            )
            for w in relative
        ]
    )
    return factors * length / hydraulic * density / 2 * relative**2
