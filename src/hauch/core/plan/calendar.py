"""When something is busy: intervals in order, and the next time at which it is free for so long."""

from __future__ import annotations

from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterable

from hauch.core.plan.house import Window, joined

NEVER = 1 << 40
"""Later than any plan."""


class Calendar:
    """Busy intervals of one thing, that do not overlap."""

    __slots__ = ("busy",)

    def __init__(self, busy: Iterable[Window] = ()) -> None:
        self.busy: list[Window] = list(joined(busy))

    def next_free(self, at: int, minutes: int) -> int:
        """The first minute from ``at`` on from which it is free for ``minutes`` (at least one)."""
        busy, need = self.busy, max(minutes, 1)
        index = bisect_right(busy, (at, NEVER))
        if index and busy[index - 1][1] > at:
            at = busy[index - 1][1]
        while index < len(busy) and busy[index][0] < at + need:
            at = max(at, busy[index][1])
            index += 1
        return at

    def is_free(self, begin: int, end: int) -> bool:
        """Whether nothing holds it from ``begin`` to before ``end``."""
        return self.next_free(begin, end - begin) == begin

    def take(self, begin: int, end: int) -> None:
        """Hold it. The interval must be free."""
        if end > begin:
            insort(self.busy, (begin, end))

    def give_back(self, begin: int, end: int) -> None:
        """Let go of what was taken."""
        if end > begin:
            del self.busy[bisect_left(self.busy, (begin, end))]


class Layers:
    """Intervals that may overlap, such as all that is loud in a house."""

    __slots__ = ("held", "longest")

    def __init__(self) -> None:
        self.held: list[Window] = []
        self.longest = 0

    def next_clear(self, at: int, minutes: int) -> int:
        """The first minute from ``at`` on from which none of them runs for ``minutes``."""
        held, need = self.held, max(minutes, 1)
        index = bisect_left(held, (at - self.longest, 0))
        while index < len(held) and held[index][0] < at + need:
            at = max(at, held[index][1])
            index += 1
        return at

    def take(self, begin: int, end: int) -> None:
        """Add one."""
        if end > begin:
            self.longest = max(self.longest, end - begin)
            insort(self.held, (begin, end))

    def give_back(self, begin: int, end: int) -> None:
        """Take one away."""
        if end > begin:
            del self.held[bisect_left(self.held, (begin, end))]
