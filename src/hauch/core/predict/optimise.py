"""Search for a better rotor within limits, with progress, a way to stop, and the front of
trade-offs that was met on the way.

References
----------
Differential evolution: R. Storn, K. Price, J. Global Optimization 11 (1997) 341, as in
    `scipy.optimize.differential_evolution`. Front:
points that no other beats in both aims (Pareto).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

POPULATION = 2
"""Members for each parameter: small, since one rotor costs milliseconds and the start is a design
that works.
"""
LEAST = 12
"""Members at least."""
MOST_FRONT = 40


@dataclass(frozen=True, slots=True)
class Found:
    """One candidate: parameters, its aim (more is better) and the second aim of the front (less is
    better).
    """

    parameters: tuple[float, ...]
    aim: float
    other: float


@dataclass
class Search:
    """A search: bounds by parameter, a start within them, and how many rounds and candidates it may
    take.

    ``judge`` gives aim and other aim of parameters, or None where they cannot be; ``tell`` gets the
    share done and the best so far, and stops the search when it returns False.
    """

    bounds: Sequence[tuple[float, float]]
    start: Sequence[float]
    judge: Callable[[Sequence[float]], tuple[float, float] | None]
    tell: Callable[[float, Found | None], bool]
    rounds: int = 30
    seed: int = 1
    tried: list[Found] = field(default_factory=list)
    stopped: bool = False

    def run(self) -> Found | None:
        """The best candidate; None where none can be."""
        count = max(POPULATION * len(self.bounds), LEAST)
        rng = np.random.default_rng(self.seed)
        low, high = np.array(self.bounds, float).T
        width = high - low
        spread = np.clip(
            np.array(self.start) + 0.25 * width * rng.standard_normal((count - 1, len(width))),
            low,
            high,
        )
        first = np.vstack([np.clip(self.start, low, high), spread])
        done = 0

        def cost(parameters: np.ndarray) -> float:
            nonlocal done
            done += 1
            if self.stopped:
                return math.inf
            judged = self.judge(parameters.tolist())
            if judged is not None and all(math.isfinite(v) for v in judged):
                self.tried.append(Found(tuple(parameters.tolist()), *judged))
            if done % 5 == 0:
                self._tell(min(done / (count * (self.rounds + 1)), 0.99))
            return -judged[0] if judged is not None and math.isfinite(judged[0]) else 1e12

        scipy.optimize.differential_evolution(
            cost,
            list(zip(low, high, strict=True)),
            init=first,
            maxiter=self.rounds,
            rng=rng,
            polish=False,
            tol=1e-6,
            mutation=(0.4, 0.9),
            recombination=0.8,
            callback=lambda *_, **__: self.stopped,
        )
        if not self.stopped:
            self._tell(1.0)
        return self.best

    def _tell(self, share: float) -> None:
        if not self.tell(share, self.best):
            self.stopped = True

    @property
    def best(self) -> Found | None:
        """The best so far."""
        return max(self.tried, key=lambda f: f.aim, default=None)


def front(found: Sequence[Found]) -> list[Found]:
    """Candidates that no other beats in both aims, by falling aim, at most `MOST_FRONT` of them."""
    kept: list[Found] = []
    least = math.inf
    for one in sorted(found, key=lambda f: (-f.aim, f.other)):
        if one.other < least:
            kept.append(one)
            least = one.other
    step = max(1, math.ceil(len(kept) / MOST_FRONT))
    return kept[::step]
