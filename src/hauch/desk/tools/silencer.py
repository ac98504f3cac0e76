"""The Desk's silencers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from hauch.core.geometry.draw_ducts import silencer_drawing
from hauch.core.predict.model import cause, modelled
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


FORMULAS = {
    "chamber": "TL = 10 lg(1 + (m − 1/m)² sin²(kL) / 4)",
    "branch": "TL = 10 lg(1 + (m tan kL)² / 4)",
    "perforated": "TL = 20 lg |(A − B − C + D) / 2|, two waves through holes of ζ = (0.006 + jk(t + 0.75 d)) / σ",
}
SHIFT = 0.03
"""A print's length and the air's temperature shift the curve by about this share of frequency."""


@dataclass(frozen=True)
class _Model:
    """The silencer in air of the temperature, and the tones it is to take away."""

    values: Values
    silencer: Silencer
    speed: float

    @property
    def whistle(self) -> float:
        """The tone of the flow [Hz]."""
        return float(self.values["whistle"])

    @property
    def tone(self) -> float:
        """Blade-passing tone [Hz]."""
        return float(self.values["blades"] * self.values["speed"] / 60)

    @property
    def limit(self) -> float:
        """Frequency up to which the formula holds [Hz]."""
        return self.silencer.limit(self.speed)

    def at(self, frequency: float) -> float:
        """Transmission loss [dB]."""
        return float(self.silencer.loss(frequency, self.speed))


def work(values: Values, setting: Setting) -> Answer:
    """Transmission loss over frequency with the tones in it."""
    model = _Model(values, part(values), speed_of_sound(values["temperature"]))
    tuned, said = (
        _tuned_tube(model, model.silencer)
        if isinstance(model.silencer, PerforatedTube)
        else _tuned_length(model, model.silencer)
    )
    tones = [
        Figure("whistle", "Loss at the whistle", "decibel", _loss(model, model.whistle), True),
        Figure("tone", "Loss at the blade-passing tone", "decibel", _loss(model, model.tone), True),
    ]
    figures = [
        *tones,
        *tuned,
        Figure("limit", "Holds up to", "frequency", exact(model.limit, "Hz")),
        Figure("blade", "Blade-passing tone", "frequency", exact(model.tone, "Hz")),
        Figure("sound_speed", "Speed of sound", "air_speed", exact(model.speed, "m/s")),
    ]
    drawing = silencer_drawing(model.silencer)
    return Answer(drawing, figures, [_chart(model)], said + _remarks(model))


def _loss(model: _Model, frequency: float) -> Quantity:
    """Transmission loss at a frequency with its doubt [dB]."""
    at, width = model.at, SHIFT * frequency
    step = Step(
        "Transmission loss",
        FORMULAS[model.values["form"]],
        (("f", frequency, "Hz"), ("c", model.speed, "m/s"), ("L", model.values["length"], "m")),
        at(frequency),
        "dB",
        "Munjal 2014, ch. 2 and 3",
    )
    here = at(frequency)
    shift = max(abs(at(frequency + width) - here), abs(at(frequency - width) - here))
    causes = [
        (cause("silencer", "the plane-wave model with flow"), DOUBT),
        (cause("silencer:shift", "the curve shifts by about 3 % in frequency"), shift),
    ]
    return measured(here, "dB", causes).with_step(step)


TUNED = {"chamber": 0.015, "branch": 0.015, "perforated": 0.04}
"""Standard uncertainty of the frequency of the most loss, and of a length that is tuned to one, as a
share: the end correction, and the print (docs/validation.md).
"""


def _tuned_tube(model: _Model, tube: PerforatedTube) -> tuple[list[Figure], list[Remark]]:
    """Where a perforated tube takes most, and what would bring that to the whistle."""
    doubt = TUNED["perforated"]
    why = "impedance of the holes"
    figures, said = [], []
    peak = tube.peak(model.speed)
    if math.isfinite(peak):
        step = Step(
            "Most loss",
            "peak of the curve",
            (("most", model.at(peak), "dB"),),
            peak,
            "Hz",
            "Munjal 2014, ch. 3; Sullivan and Crocker 1978",
        )
        tuned = modelled(peak, "Hz", "silencer:tuned", why, doubt, (step,))
        figures.append(Figure("tuned", "Most loss at", "frequency", tuned, True))
    else:
        said.append(
            Remark(
                "range",
                f"Below {model.limit:.0f} Hz its loss has no peak: it rises to where waves are no"
                " longer plane.",
            )
        )
    needed = tube.open_share_for(model.whistle, model.speed)
    if math.isfinite(needed):
        share = modelled(100 * needed, "%", "silencer:tuned", why, 2 * doubt)
        figures.append(Figure("open_for", "Open share for the whistle", "percent", share, True))
    else:
        said.append(
            Remark(
                "care",
                "No open share up to 50 % brings the most loss to the whistle; change the chamber's"
                " length or width.",
            )
        )
    return figures, said


def _tuned_length(
    model: _Model, silencer: Chamber | QuarterWave
) -> tuple[list[Figure], list[Remark]]:
    """Where a chamber or a branch takes most, and the length that would take the whistle."""
    c, doubt, why = model.speed, TUNED[model.values["form"]], "end correction and print"
    sounding = model.values["length"] if isinstance(silencer, Chamber) else silencer.sounding_length
    wanted = silencer.length_for(model.whistle, c)
    step = Step(
        "Length for the whistle",
        "L = c / (4 f), less the end correction of a branch",
        (("c", c, "m/s"), ("f", model.whistle, "Hz")),
        wanted,
        "m",
        "Munjal 2014, ch. 2; Ji 2005",
    )
    waves = c / (4 * model.whistle)
    length = modelled(wanted, "m", "silencer:tuned", why, 0.0, (step,), absolute=doubt * waves)
    peak = Step(
        "Most loss",
        "f = c / (4 L)",
        (("c", c, "m/s"), ("L with its end", sounding, "m")),
        c / (4 * sounding),
        "Hz",
        "Munjal 2014, ch. 2; Ji 2005",
    )
    most = modelled(peak.value, "Hz", "silencer:tuned", why, doubt, (peak,))
    figures = [
        Figure("tuned", "Most loss at", "frequency", most, True),
        Figure("length_for", "Length for the whistle", "length", length, True),
    ]
    said = []
    if isinstance(silencer, Chamber) and silencer.short_and_wide:
        said.append(
            Remark(
                "care",
                "The chamber is short and wide: near its limit it takes up to 6 dB more than is"
                " told here.",
            )
        )
    if wanted <= 0:
        said.append(
            Remark(
                "care",
                "The whistle is so high that the branch is shorter than its own end correction; take"
                " a narrower one.",
            )
        )
    return figures, said


def _remarks(model: _Model) -> list[Remark]:
    remarks = []
    for key, name, f in (
        ("whistle", "whistle", model.whistle),
        ("tone", "blade-passing tone", model.tone),
    ):
        if f > model.limit:
            remarks.append(
                Remark(
                    "range",
                    f"The {name} ({f:.0f} Hz) lies above {model.limit:.0f} Hz, where waves are no"
                    " longer plane and the formula does not hold.",
                    (key,),
                )
            )
        elif model.at(f) < 3:
            said = f"At the {name} ({f:.0f} Hz) the silencer takes {model.at(f):.1f} dB only."
            remarks.append(Remark("care", said))
    remarks.append(
        Remark(
            "note",
            "Transmission loss is what the silencer takes from a wave that goes through without"
            " coming back; what is heard outside depends on the ducts before and behind it too, and"
            " the flow's own noise is not in it.",
        )
    )
    return remarks


def _chart(model: _Model) -> Chart:
    top = max(min(2 * model.limit, 12000.0), 2.2 * model.whistle, 3 * model.tone)
    grid = np.linspace(20, top, 400)
    loss = curve(model.silencer, grid, model.speed)
    inside = grid <= model.limit

    def line(label: str, chosen: np.ndarray, dashed: bool) -> Line:
        return Line(label, tuple(grid[chosen].tolist()), tuple(loss[chosen].tolist()), dashed)

    return Chart(
        "loss",
        "Transmission loss over frequency",
        ("frequency", "frequency"),
        ("decibel", "transmission loss"),
        (line("model", inside, False), line("beyond its range", ~inside, True)),
        marks=(("whistle", model.whistle), ("blade-passing", model.tone)),
    )


TOOL = register(
    Tool(
        "silencer",
        "Silencer",
        "Which length takes out which whistle?",
        INPUTS,
        work,
        "Plane waves: below the first cross mode of the chamber, slow flow. Loss within 4 dB (95 %),"
        " more beside steep flanks; peaks less sharp than drawn.",
        cautions=(
            (
                "A soft or leaking wall lets the sound around: seal joints with gaskets before"
                " judging a silencer."
            ),
        ),
        solid=solid,
        extent=extent,
        part="intake",
        also=("silencer",),
    )
)
