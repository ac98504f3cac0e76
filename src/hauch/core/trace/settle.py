"""Where a trace is steady, and where a warming body will end.

References
----------
First-order response T(t) = Tinf - (Tinf - T0) exp(-t/tau) of a lumped body: any heat transfer text,
    for example
F. P. Incropera et al., Fundamentals of Heat and Mass Transfer, 5.1 (valid for Biot numbers below
    0.1). A light body in front of a heavy one adds a second, faster term.
What is not known of the time constants is averaged over, each weighted by how probable the trace
    makes it: J. A. Hoeting and others, Statist. Sci. 14 (1999) 382; amplitudes in closed form:
    C. M. Bishop, Pattern Recognition and Machine Learning (2006), 3.3 and 3.5.
Independent samples in correlated noise: G. E. P. Box, G. M. Jenkins, Time Series Analysis, 2.1.5.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy

from hauch.core.quantity import expanded
from hauch.core.trace.disturbed import course


@dataclass(frozen=True, slots=True)
class Settling:
    """End value of a settling trace.

    ``end``, ``u``, ``dof`` [unit of the trace], ``tau`` [s], ``slope`` now [unit/s], ``settled`` by
    the rule, and ``seconds_to_go`` until it is (0 when settled, infinite when no end is in sight).
    ``room`` is what the end stands on where a rise over it was fitted [unit of the trace].
    """

    end: float
    u: float
    dof: float
    tau: float
    slope: float
    settled: bool
    seconds_to_go: float
    room: float = 0.0
    since: float = -math.inf
    """Since when the trace follows the course that was fitted [s]: it was disturbed before."""

    @property
    def rise(self) -> float:
        """How far above the room it ends."""
        return self.end - self.room


def correlation_factor(values: np.ndarray) -> float:
    """How many samples of a trace count as one independent sample, at least 1.

    1 + 2 sum of the autocorrelation up to its first crossing of zero (at most a quarter of the
    samples).
    """
    x = np.asarray(values, dtype=float)
    x = x[np.isfinite(x)]
    if x.size < 8:
        return 1.0
    x = x - x.mean()
    power = float(x @ x)
    if power <= 0:
        return 1.0
    size = 1 << (2 * x.size - 1).bit_length()
    spectrum = np.abs(np.fft.rfft(x, size)) ** 2
    rho = np.fft.irfft(spectrum, size)[1 : x.size // 4] / power
    below = np.flatnonzero(rho <= 0)
    rho = rho[: below[0]] if below.size else rho
    return max(1.0, 1.0 + 2.0 * float(rho.sum()))


BLOCKS = 120
"""A trace is averaged into up to this many blocks before it is fitted: enough for two time
constants, quick enough to do every second.
"""

SHORTEST, LONGEST = 1 / 300, 3.0
"""Time constants that are thought of, in lengths of the trace. A slower body shows no more of itself
than a straight line: no trace of this length tells its end.
"""

BEYOND = 2.0
"""What is still to come of a body slower than this is not believed, but doubt [lengths of the trace]."""

SHARE = 0.05
"""A body with less of the change than this is not what a trace is waiting for."""

SLOW, FAST = 24, 24
"""Time constants of the heavy body that are weighed against each other, and of the light one that
its best fit is first looked for among.
"""

MOST_TURNS, MOST_STEPS = 8, 6
"""How often the heavy body's time constants are drawn closer round what is still probable, and steps
in which the light one's is found for each.
"""

FOUND = 1e-4
"""A light body's time constant is found when its logarithm would move by less than this."""

PROBABLE = 14.0
"""What is less probable than the best by more than this [nat] is left out when they are drawn closer."""

APART = 1.2
"""Two bodies whose time constants differ by less than this factor are one."""

REACH = 4.0
"""How far an amplitude or an end may lie from what was seen, as a standard deviation, in ranges of
the trace: what is heading further is not believed.
"""

WIDER = 1.4
"""The residuals' own correlation is estimated too small, as part of it is fitted away; found by
simulated soaks (benchmark ``settle``).
"""


@dataclass(frozen=True, slots=True)
class _Response:
    """Responses of two bodies that a trace may show; K of them.

    ``weight`` (K,) their probability, ``mean`` (K, 3) end and both amplitudes, ``spread`` (K,)
    standard deviation of the end, ``taus`` (K, 2) [lengths of the trace], ``scatter`` of the end if
    all time constants were known, ``dof`` of the residuals.
    """

    weight: np.ndarray
    mean: np.ndarray
    spread: np.ndarray
    taus: np.ndarray
    scatter: float
    dof: float

    @property
    def end(self) -> float:
        """Mean of where it ends."""
        return float(self.weight @ self.mean[:, 0])

    @property
    def slow(self) -> float:
        """Time constant of the slowest body that has a share of the change."""
        sizes = np.abs(self.mean[:, 1:])
        heavy = sizes[:, 1] > SHARE * sizes.sum(axis=1)
        return float(self.weight @ np.where(heavy, self.taus[:, 1], self.taus[:, 0]))

    @property
    def u(self) -> float:
        """Standard deviation of where it ends: of each response, between them, and all that is still
        to come of those much slower than the trace is long.
        """
        off = self.mean[:, 0] - self.end
        unseen = self.mean[:, 2] * np.exp(-1 / self.taus[:, 1]) * (self.taus[:, 1] > BEYOND)
        return math.sqrt(float(self.weight @ (self.spread**2 + off**2 + unseen**2)))

    def remaining(self, at: np.ndarray) -> np.ndarray:
        """What is still to come at times [lengths of the trace], shape of ``at``."""
        left = np.exp(-at[:, None, None] / self.taus) * self.mean[:, 1:]
        return left.sum(axis=2) @ self.weight


class _Profile:
    """For each of K time constants of the heavy body the best light one beside it, with end and
    amplitudes; times and time constants in lengths of the trace (Gauss-Newton on the logarithm of
    the light body's, the linear ones solved at each step).
    """

    def __init__(self, t: np.ndarray, y: np.ndarray):
        self.t, self.y = t, y
        self.ln_prior = math.log(LONGEST / SHORTEST) / math.sqrt(12)

    def begin(self, slow: np.ndarray) -> np.ndarray:
        """Light time constants to begin with: the best of a grid beside each heavy one, (K,)."""
        tried = np.exp(np.linspace(math.log(SHORTEST), math.log(LONGEST), FAST))
        pairs = np.broadcast_arrays(tried[None, :], slow[:, None])
        fast = np.minimum(pairs[0], pairs[1] / APART).ravel()
        left = self._solved(fast, pairs[1].ravel(), LEAST_NOISE)[2].reshape(pairs[0].shape)
        return fast.reshape(left.shape)[np.arange(slow.size), np.argmin(left, axis=1)]

    def _solved(
        self, fast: np.ndarray, slow: np.ndarray, noise: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Columns (K, n, 3), end and amplitudes (K, 3), squares left (K,)."""
        columns = np.empty((fast.size, self.t.size, 3))
        columns[:, :, 0] = 1.0
        np.exp(-self.t / fast[:, None], out=columns[:, :, 1])
        np.exp(-self.t / slow[:, None], out=columns[:, :, 2])
        turned = columns.transpose(0, 2, 1)
        square = turned @ columns + noise / REACH**2 * np.eye(3)
        mean = np.linalg.solve(square, (turned @ self.y)[:, :, None])[:, :, 0]
        residual = self.y - (columns @ mean[:, :, None])[:, :, 0]
        return columns, mean, np.sum(residual**2, axis=1)

    def refined(self, fast: np.ndarray, slow: np.ndarray, noise: float) -> np.ndarray:
        """Light time constants (K,) from those to begin with."""
        best, left = fast.copy(), np.full(fast.size, np.inf)
        step, trial = np.zeros(fast.size), fast
        for _ in range(MOST_STEPS):
            columns, mean, squares = self._solved(trial, slow, noise)
            better = squares < left
            wide, right = (
                self._wide(columns, mean, trial),
                self.y - np.einsum("kna,ka->kn", columns, mean),
            )
            turned = wide.transpose(0, 2, 1)
            square = turned @ wide + noise * np.diag([*3 * [REACH**-2], self.ln_prior**-2])
            on = np.linalg.solve(square, (turned @ right[:, :, None]))[:, 3, 0]
            step = np.where(better, np.clip(on, -0.7, 0.7), step / 2)
            if np.all(np.abs(step) < FOUND):
                break
            best, left = np.where(better, trial, best), np.where(better, squares, left)
            trial = np.clip(best * np.exp(step), SHORTEST, slow / APART)
        return best

    def _wide(self, columns: np.ndarray, mean: np.ndarray, fast: np.ndarray) -> np.ndarray:
        """Columns with what the logarithm of the light time constant changes, (K, n, 4)."""
        turn = mean[:, 1, None] * columns[:, :, 1] * self.t / fast[:, None]
        return np.concatenate((columns, turn[:, :, None]), axis=2)

    def weighed(
        self, fast: np.ndarray, slow: np.ndarray, noise: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Logarithm of how probable the trace is (K,), end and amplitudes (K, 3), standard
        deviation of the end (K,), residuals (K, n).
        """
        columns, mean, squares = self._solved(fast, slow, noise)
        wide = self._wide(columns, mean, fast)
        square = wide.transpose(0, 2, 1) @ wide / noise
        square += np.diag([*3 * [REACH**-2], self.ln_prior**-2])
        covariance = np.linalg.inv(square)
        prior = np.sum(mean**2, axis=1) / REACH**2
        told = (np.linalg.slogdet(covariance)[1] - squares / noise - prior) / 2
        residual = self.y - np.einsum("kna,ka->kn", columns, mean)
        return told, mean, np.sqrt(covariance[:, 0, 0]), residual


def _response(t: np.ndarray, y: np.ndarray, floor: float = 0.0) -> _Response:
    """Responses that a trace may show: times in lengths of the trace, values about their mean in
    ranges of the trace; ``floor`` is the least squared noise that it can have.

    Notes
    -----
    The heavy body's time constants are drawn closer round what is probable until they no longer miss
    the trace by more than its noise. Each sample counts as less than one, by how the residuals are
    correlated.
    """
    profile, least, most = _Profile(t, y), math.log(SHORTEST), math.log(LONGEST)
    quiet = max(LEAST_NOISE, floor)
    low, high = least, most
    slow = np.exp(np.linspace(low, high, SLOW))
    fast = profile.begin(slow)
    noise = quiet
    for _ in range(MOST_TURNS):
        fast = profile.refined(fast, slow, noise)
        told, mean, spread, residual = profile.weighed(fast, slow, noise)
        squares = np.sum(residual**2, axis=1)
        best = int(np.argmin(squares))
        factor = WIDER * correlation_factor(residual[best])
        dof = max(y.size / factor - 5, 1.0)
        before, noise = noise, max(float(squares[best]) / max(y.size - 5, 1), quiet)
        # What a coarse grid misses is no noise: nothing is left out that a closer one may reach.
        excess = np.log(np.maximum(squares, LEAST_NOISE) / max(float(squares[best]), LEAST_NOISE))
        kept = np.flatnonzero(excess < 2 * PROBABLE / max(dof, LEAST_DOF))
        step = (high - low) / (SLOW - 1)
        to_low, to_high = low + step * (kept[0] - 1.0), low + step * (kept[-1] + 1.0)
        if kept[0] == 0:
            to_low -= (high - low) / 4
        if kept[-1] == SLOW - 1:
            to_high += (high - low) / 4
        to_low, to_high = max(to_low, least), min(to_high, most)
        if 0.7 < (to_high - to_low) / (high - low) < 1.2 and noise > 0.9 * before:
            break
        finer = np.exp(np.linspace(to_low, to_high, SLOW))
        fast = np.exp(np.interp(np.log(finer), np.log(slow), np.log(fast)))
        slow, low, high = finer, to_low, to_high
        fast = np.minimum(fast, slow / APART)
    noise *= max(y.size - 5, 1) / dof
    told, mean, spread, _ = profile.weighed(fast, slow, noise)
    weight = np.exp(told - told.max())
    taus = np.stack((fast, slow), axis=1)
    scatter = math.sqrt(noise / y.size)
    return _Response(weight / weight.sum(), mean, spread, taus, scatter, dof)


LEAST_NOISE = 1e-9
"""Squared noise of a trace without any, in squared ranges."""

LEAST_DOF = 8.0
"""Degrees of freedom of what a coarse grid misses, which is one slow wave."""


LEAST_POINTS = 8
"""Points noted by hand from which an end is told: simulated soaks of one and of two bodies, with 6 to 30
points a minute apart, ended in their 95 % interval in 97 % and more.
"""


def fit_settling(
    times: np.ndarray,
    values: np.ndarray,
    resolution: float,
    window: float = 60.0,
    *,
    least: int = 20,
    digit: float = 0.0,
) -> Settling:
    """Fit the end value of a body that warms or cools.

    Parameters
    ----------
    times, values : seconds and trace, shape (n,); NaN are left out
    resolution : what the round asks for [unit of the trace]
    window : over which time the remaining change must stay below the resolution [s]
    least : samples without which nothing is told
    digit : steps in which the thermometer shows, where they are known: few points may happen to lie
        on a curve more closely than they can be read

    Raises
    ------
    ValueError : fewer samples than the least, or a resolution that is not above zero

    Notes
    -----
    Settled when the expanded doubt of the end value and the change over one window are both below
    the resolution. Two bodies, a light one in front of a heavy one; where the trace shows only one,
    or nothing that warms any more, the second has no amplitude. All pairs of time constants count by
    how probable the trace makes them, so that a slow body that a trace cannot rule out is doubt of
    its end.
    """
    if not resolution > 0:
        raise ValueError(f"the resolution must be above 0, got {resolution}")
    return _Fit.of(times, values, least, digit).judged(resolution, window, digit / math.sqrt(12))


@dataclass(frozen=True, slots=True)
class _Fit:
    """A response in the trace's own units: its length [s], middle and range; no response where the
    trace does not change at all.
    """

    response: _Response | None
    span: float
    centre: float
    size: float

    @classmethod
    def of(cls, times: np.ndarray, values: np.ndarray, least: int = 20, digit: float = 0.0) -> _Fit:
        good = np.isfinite(values) & np.isfinite(times)
        t, y = np.asarray(times, float)[good], np.asarray(values, float)[good]
        if t.size < least:
            raise ValueError(f"settling needs at least {least} samples, got {t.size}")
        block = max(1, t.size // BLOCKS)
        kept = t.size // block * block
        t, y = t[:kept].reshape(-1, block).mean(axis=1), y[:kept].reshape(-1, block).mean(axis=1)
        t = t - t[0]
        span, centre, size = float(t[-1]), float(y.mean()), float(np.ptp(y))
        floor = (digit / size) ** 2 / 12 if size > 0 else 0.0
        response = _response(t / span, (y - centre) / size, floor) if size > 0 else None
        return cls(response, span, centre, size)

    def bodies(self) -> list[tuple[float, float]]:
        """Share and time constant [s] of both bodies in the most probable response."""
        r = self.response
        if r is None:
            return []
        best = int(np.argmax(r.weight))
        shares = np.abs(r.mean[best, 1:]) / np.sum(np.abs(r.mean[best, 1:]))
        return list(zip(shares.tolist(), (self.span * r.taus[best]).tolist(), strict=True))

    def judged(self, resolution: float, window: float, besides: float = 0.0) -> Settling:
        """Settled or not by the rule, and how long still; ``besides`` is doubt of the end that the
        trace does not show.
        """
        r = self.response
        if r is None:
            return Settling(self.centre, besides, math.inf, 0.0, 0.0, besides < resolution, 0.0)
        size, span, u = self.size, self.span, math.hypot(self.size * r.u, besides)
        half = expanded(u, r.dof)
        later = 1 + np.concatenate(([0.0], np.geomspace(0.01, AHEAD, 80)))
        change = size * np.abs(r.remaining(later) - r.remaining(later + window / span))
        tau = span * r.slow
        settled = bool(half < resolution and change[0] < resolution)
        wait = 0.0
        if not settled:
            quiet = np.flatnonzero(change < resolution)
            wait = span * float(later[quiet[0]] - 1) if quiet.size else math.inf
            if half >= resolution:
                # What it is heading for gets known as it comes; what only scatters, by waiting.
                scatter = expanded(size * r.scatter, r.dof)
                known = tau * math.log(half / resolution)
                wait = max(wait, known, span * ((scatter / resolution) ** 2 - 1))
            if float(r.weight @ (r.taus[:, 1] > 1)) > 0.5 and half > size / 2:
                wait = math.inf
            wait = max(wait, 1.0)
        coming = r.remaining(np.array([1.0, 1.01]))
        slope = size * float(coming[1] - coming[0]) / (0.01 * span)
        return Settling(self.centre + size * r.end, u, r.dof, tau, slope, settled, wait)


def fit_rise(
    times: np.ndarray,
    load: np.ndarray,
    room: np.ndarray,
    resolution: float,
    window: float = 60.0,
) -> Settling:
    """Where a load ends above its room; its ``end`` stands on the room as it is now.

    A body follows its room as it follows its heat, later by its time constant: so that is what is
    taken off, and a room that drifts does not look like a body that still warms. Where the load is
    known better without, it is taken as it is: the room's thermometer may hang elsewhere; what a
    room could have hidden is doubt then. Parameters and errors as of `fit_settling`; without a
    reading of the room the load alone is fitted. What does not belong to the course that the load
    follows at its end (`disturbed.course`) is left out, where enough stays to tell it.
    """
    own = course(times, load)
    if own.out.any() and own.good.sum() >= LEAST_COURSE:
        good = own.good
        found = _rise(times[good], load[good], room[good], resolution, window)
        return replace(found, since=own.since)
    return _rise(times, load, room, resolution, window)


LEAST_COURSE = 40
"""Samples from which on a course is told by itself after a disturbance; fewer are fitted with what
was before, with the doubt that this leaves.
"""


def _rise(
    times: np.ndarray, load: np.ndarray, room: np.ndarray, resolution: float, window: float
) -> Settling:
    known = np.isfinite(room)
    if known.sum() < 2 or not resolution > 0:
        return fit_settling(times, load, resolution, window)
    at, read = np.asarray(times, float)[known], np.asarray(room, float)[known]
    now = float(read[at >= at[-1] - window].mean())
    smooth = _followed(at, read, [(1.0, window)])
    hidden = MASKED * float(np.ptp(smooth))
    alone = _Fit.of(times, load).judged(resolution, window, hidden)
    if alone.settled and hidden < resolution / 10:
        return replace(alone, room=now)
    bodies = _Fit.of(times, load - np.interp(times, at, read)).bodies()
    followed = _followed(at, read, bodies)
    above = _Fit.of(times, load - np.interp(times, at, followed))
    # Whether the light body feels the room as the heavy one does is not known.
    heavy = max((tau for share, tau in bodies if share > SHARE), default=0.0)
    unknown = float(np.sqrt(np.mean((_followed(at, read, [(1.0, heavy)]) - followed) ** 2)))
    rise = above.judged(resolution, window, unknown)
    if alone.u < rise.u:
        return replace(alone, room=now)
    return replace(rise, end=rise.end + now, room=now)


MASKED = 1 / math.expm1(1.0) / math.sqrt(3)
"""What a slow body may still have to come, as standard uncertainty, where a room that went the other
way hid it: 1/(e - 1) of the room's change for a time constant as long as the trace, rectangular.
"""


def _followed(
    times: np.ndarray, values: np.ndarray, bodies: list[tuple[float, float]]
) -> np.ndarray:
    """What bodies of such shares and time constants make of a trace: its first-order lag, from the
    level at which it begins.
    """
    if not any(tau > 0 for _, tau in bodies):
        return values
    even = np.linspace(times[0], times[-1], LAG_STEPS)
    trace = np.interp(even, times, values)
    start = float(values[times <= times[0] + 30.0].mean())
    late = np.zeros(LAG_STEPS)
    for share, tau in bodies:
        one = -math.expm1(-(even[1] - even[0]) / tau)
        late += (
            share * scipy.signal.lfilter([one], [1.0, one - 1.0], trace, zi=[start * (1 - one)])[0]
        )
    return np.interp(times, even, late)


LAG_STEPS = 4000
"""Steps of a trace that a body follows: below a second for an hour's soak."""

AHEAD = 30.0
"""How far ahead is looked for the time when nothing changes any more, in lengths of the trace."""
