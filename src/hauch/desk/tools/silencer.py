"""The Desk's silencers."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.geometry.desk_drawings import silencer_drawing
from hauch.core.predict.model import cause
from hauch.core.predict.silencer import DOUBT, Chamber, PerforatedTube, QuarterWave, Silencer, curve
from hauch.core.quantity import Quantity, Step, exact, measured
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Input,
    Line,
    Remark,
    Setting,
    Tool,
    Values,
    register,
)

PERFORATED, BRANCH, ROOM = (
    ("form", ("perforated",)),
    ("form", ("branch",)),
    ("form", ("chamber", "perforated")),
)
INPUTS = (
    Input(
        "form",
        "Form",
        "choice",
        "chamber",
        "Silencer",
        choices=(
            ("chamber", "expansion chamber"),
            ("branch", "quarter-wave branch"),
            ("perforated", "perforated tube in a chamber"),
        ),
    ),
    Input("duct", "Duct", "length", 0.040, "Silencer", 0.002, 1),
    Input("chamber", "Chamber", "length", 0.090, "Silencer", 0.002, 2, shown_with=ROOM),
    Input("branch", "Branch", "length", 0.025, "Silencer", 0.001, 1, shown_with=BRANCH),
    Input("length", "Length", "length", 0.120, "Silencer", 0.001, 5),
    Input("hole", "Holes", "length", 0.003, "Silencer", 0.0002, 0.1, shown_with=PERFORATED),
    Input(
        "open_share",
        "Open share of the tube",
        "percent",
        5.0,
        "Silencer",
        0,
        100,
        shown_with=PERFORATED,
    ),
    Input("wall", "Wall", "length", 0.0016, "Silencer", -0.01, 0.05),
    Input("whistle", "Measured whistle", "frequency", 600.0, "Tones", 20, 16000),
    Input("blades", "Blades of the fan", "count", 7, "Tones", 1, 100),
    Input("speed", "Its speed", "rotational_speed", 1900.0, "Tones", 1, 100000),
    Input("temperature", "Air temperature", "temperature", 20.0, "Tones", -40, 200),
)


def part(values: Values) -> Silencer:
    """The silencer of the values."""
    if values["form"] == "chamber":
        return Chamber(values["duct"], values["chamber"], values["length"])
    if values["form"] == "branch":
        return QuarterWave(values["duct"], values["branch"], values["length"])
    return PerforatedTube(
        values["duct"],
        values["chamber"],
        values["length"],
        values["hole"],
        values["wall"],
        values["open_share"] / 100,
    )


def solid(values: Values) -> Any:
    """The silencer as a solid."""
    from hauch.core.geometry.solids import silencer_solid

    return silencer_solid(part(values), values["wall"])


def speed_of_sound(temperature: float) -> float:
    """In dry air [m/s]: 343.2 sqrt(T / 293.15) (ISO 9613-1:1993, clause 5).

    Parameters
    ----------
    temperature : [degC]
    """
    return 343.2 * math.sqrt((temperature + 273.15) / 293.15)


def extent(values: Values) -> dict[str, float]:
    """Sizes that an envelope speaks of [m], of the part as the generator makes it."""
    from hauch.core.geometry.solids import STUB

    made, wall = part(values), values["wall"]
    if isinstance(made, QuarterWave):
        wide = max(made.duct, made.branch) + 2 * wall
        return {
            "width": wide,
            "height": made.duct + made.length + 2 * wall,
            "length": made.branch + 2 * STUB,
            "wall": wall,
        }
    wide = made.chamber + 2 * wall
    return {
        "width": wide,
        "height": wide,
        "length": made.length + 2 * wall + 2 * STUB,
        "wall": wall,
    }


def work(values: Values, setting: Setting) -> Answer:
    """Transmission loss over frequency with the tones in it."""
    silencer = part(values)
    c = speed_of_sound(values["temperature"])
    tone = values["blades"] * values["speed"] / 60
    limit = silencer.limit(c)
    top = max(min(2 * limit, 12000.0), 2.2 * values["whistle"], 3 * tone)
    grid = np.linspace(20, top, 400)
    loss = curve(silencer, grid, c)

    def at(f):
        return float(silencer.loss(f, c))

    formula = {
        "chamber": "TL = 10 lg(1 + (m − 1/m)² sin²(kL) / 4)",
        "branch": "TL = 10 lg(1 + (m tan kL)² / 4)",
        "perforated": "TL = 10 lg(1 + (√(G V) / 2S / (f/f₀ − f₀/f))²)",
    }[values["form"]]

    def told(f: float) -> Quantity:
        step = Step(
            "Transmission loss",
            formula,
            (("f", f, "Hz"), ("c", c, "m/s"), ("L", values["length"], "m")),
            at(f),
            "dB",
            "Munjal 2014, ch. 2",
        )
        width = 0.03 * f  # a print's length and the air's temperature shift the curve by about 3 %
        shift = max(abs(at(f + width) - at(f)), abs(at(f - width) - at(f)))
        return measured(
            at(f),
            "dB",
            [
                (cause("silencer", "the plane-wave model with flow"), DOUBT),
                (cause("silencer:shift", "the curve shifts by about 3 % in frequency"), shift),
            ],
        ).with_step(step)

    figures = [
        Figure("whistle", "Loss at the whistle", "decibel", told(values["whistle"]), True),
        Figure("tone", "Loss at the blade-passing tone", "decibel", told(tone), True),
    ]
    remarks: list[Remark] = []
    if isinstance(silencer, PerforatedTube):
        f0 = silencer.resonance(c)
        figures.append(Figure("tuned", "Tuned to", "frequency", exact(f0, "Hz"), True))
        needed = silencer.open_share * (values["whistle"] / f0) ** 2
        if 0 < needed <= 0.5:
            figures.append(
                Figure(
                    "open_for",
                    "Open share for the whistle",
                    "percent",
                    exact(100 * needed, "%"),
                    True,
                )
            )
        else:
            remarks.append(
                Remark(
                    "care",
                    "No open share up to 50 % tunes this chamber to the whistle; change its length"
                    " or width.",
                )
            )
    else:
        wanted = silencer.length_for(values["whistle"], c)
        figures.append(
            Figure(
                "tuned",
                "Most loss at",
                "frequency",
                exact(
                    c
                    / (
                        4
                        * (
                            values["length"]
                            if isinstance(silencer, Chamber)
                            else silencer.sounding_length
                        )
                    ),
                    "Hz",
                ),
                True,
            )
        )
        figures.append(
            Figure(
                "length_for",
                "Length for the whistle",
                "length",
                exact(wanted, "m").with_step(
                    Step(
                        "Length for the whistle",
                        "L = c / (4 f), less the end correction of a branch",
                        (("c", c, "m/s"), ("f", values["whistle"], "Hz")),
                        wanted,
                        "m",
                        "Munjal 2014, ch. 2",
                    )
                ),
                True,
            )
        )
        if wanted <= 0:
            remarks.append(
                Remark(
                    "care",
                    "The whistle is so high that the branch is shorter than its own end correction;"
                    " take a narrower one.",
                )
            )
    figures += [
        Figure("limit", "Holds up to", "frequency", exact(limit, "Hz")),
        Figure("blade", "Blade-passing tone", "frequency", exact(tone, "Hz")),
        Figure("sound_speed", "Speed of sound", "air_speed", exact(c, "m/s")),
    ]
    for name, f in (("whistle", values["whistle"]), ("blade-passing tone", tone)):
        if f > limit:
            remarks.append(
                Remark(
                    "range",
                    f"The {name} ({f:.0f} Hz) lies above {limit:.0f} Hz, where the formula no"
                    " longer holds: cross modes, or a chamber that is long against the wave.",
                )
            )
        elif at(f) < 3:
            remarks.append(
                Remark(
                    "care", f"At the {name} ({f:.0f} Hz) the silencer takes {at(f):.1f} dB only."
                )
            )
    remarks.append(
        Remark(
            "note",
            "Transmission loss is what the silencer takes from a wave that goes through without"
            " coming back; what is heard outside depends on the ducts before and behind it too, and"
            " the flow's own noise is not in it.",
        )
    )
    inside = grid <= limit
    chart = Chart(
        "loss",
        "Transmission loss over frequency",
        ("frequency", "frequency"),
        ("decibel", "transmission loss"),
        (
            Line("model", tuple(grid[inside].tolist()), tuple(loss[inside].tolist())),
            Line(
                "beyond its range",
                tuple(grid[~inside].tolist()),
                tuple(loss[~inside].tolist()),
                dashed=True,
            ),
        ),
        marks=(("whistle", values["whistle"]), ("blade-passing", tone)),
    )
    return Answer(silencer_drawing(silencer), figures, [chart], remarks)


TOOL = register(
    Tool(
        "silencer",
        "Silencer",
        "Which length takes out which whistle?",
        INPUTS,
        work,
        "Plane waves: below the first cross mode of the chamber, a perforated chamber shorter than"
        " an eighth of the wave, slow flow. Loss within 4 dB (95 %), peaks less sharp than drawn.",
        cautions=(
            (
                "A soft or leaking wall lets the sound around: seal joints with gaskets before"
                " judging a silencer."
            ),
        ),
        solid=solid,
        extent=extent,
        part="intake",
    )
)
