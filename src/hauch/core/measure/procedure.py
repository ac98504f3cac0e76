"""What a way of testing is made of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from hauch.core.measure.run import RunInput
from hauch.core.measure.sweeps import Curve
from hauch.core.measure.taking import BESIDE, FLUCTUATES
from hauch.core.quantity import Quantity


@dataclass(frozen=True, slots=True, kw_only=True)
class Procedure:
    """A way to test: the rig it needs, what is read and the figure it gives.

    ``needs`` lists alternatives: one whole group of channels must be there. ``log`` says whether
    figures are compared as ratios (True) or as differences (False), and ``change_unit`` in what a
    change is then told. ``places`` marks procedures that read a row of places, as many as the rig's
    constant ``places`` says.
    """

    key: str
    label: str
    short: str
    rig: str
    needs: tuple[tuple[str, ...], ...]
    metric: str
    kind: str
    direction: int
    log: bool
    reduce: Callable[[RunInput], Quantity]
    optional: tuple[str, ...] = ("speed",)
    change_unit: str = "%"
    places: bool = False
    by_speed: bool = True
    """Whether the figure can be converted to a common speed."""
    curve: Callable[[RunInput], Curve] | None = None
    """The curve of a procedure that reads the points of a sweep; None where one state is read."""
    stepped: str = "throttle"
    """What is stepped for the points of a sweep."""
    equal: str = ""
    """Channel that the round holds equal for this figure: power or sound level."""

    @property
    def decides(self) -> frozenset[str]:
        """The channel that a figure is read from, in each way to feed it, where it is one only; of such
        the highest steady value may be taken instead of the mean. Empty for all others.
        """
        groups = [set(group) - BESIDE for group in self.needs]
        plain = not self.by_point and not self.places and self.kind != "mass"
        if not plain or any(len(group) != 1 or not group <= FLUCTUATES for group in groups):
            return frozenset()
        return frozenset().union(*groups)

    @property
    def by_point(self) -> bool:
        """Whether it reads the points of a sweep."""
        return self.curve is not None
