"""Doubt of several results at once, from the doubt of what they are computed with.

References
----------
JCGM 100:2008, 5.1.3 note 2 and 5.2.2: contributions as half the change of the result when an input
    moves by its standard uncertainty both ways.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from hauch.core.quantity import Influence, Quantity, Step

Result = tuple[str, str, str, str]
"""Unit, name, formula, source of one result."""


def spread(
    function: Callable[..., Mapping[str, float]],
    inputs: Mapping[str, Quantity],
    results: Mapping[str, Result],
) -> dict[str, Quantity]:
    """Results with doubt and one line of working each.

    Parameters
    ----------
    function : of the inputs' values by keyword, gives the results by key
    inputs : quantities by argument name
    results : what is made of each result, by key
    """
    values = {key: q.value for key, q in inputs.items()}
    middle = function(**values)
    parts: dict[str, dict[Influence, float]] = {key: {} for key in results}
    for key, q in inputs.items():
        if not q.u:
            continue
        above, below = (
            function(**{**values, key: values[key] + q.u}),
            function(**{**values, key: values[key] - q.u}),
        )
        for name, own in parts.items():
            for cause, part in q.parts.items():
                own[cause] = own.get(cause, 0.0) + (above[name] - below[name]) / 2 * part / q.u
    shown = tuple((key, q.value, q.unit) for key, q in inputs.items())
    made = {}
    for key, (unit, name, formula, source) in results.items():
        step = Step(name, formula, shown, middle[key], unit, source)
        made[key] = Quantity(middle[key], unit, parts[key], (step,))
    return made
