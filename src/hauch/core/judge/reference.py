"""Comparison with the reference: brackets, drift, the bridge between two specimens, common doubts.

Everything is linear in y, which is the natural logarithm of a figure (so that differences are
ratios) or a level in dB. A result is then a weighted sum of runs, and causes that two runs share
cancel by themselves.

References
----------
JCGM 100:2008, 5.2.2 (correlated inputs), H.5 and ISO 5725-2:2019, 7.4 (pooled repeatability).
    ISO 5725-3:1994, annex B (nested: scatter between prints of one version, within each print).
    Expectation of a sum of squares of correlated residuals: trace of their covariance (S. R. Searle,
    Linear Models, ch. 2).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import scipy

from hauch.core.judge.band import Scatter
from hauch.core.quantity import as_normal


@dataclass(frozen=True)
class Runs:
    """Runs of one test, as arrays; n runs, K causes common to the rig.

    Parameters
    ----------
    subject : index of the entry (or of the reference specimen), shape (n,)
    y : ln(figure) or level [dB], shape (n,)
    time : moment of the run [s], shape (n,)
    own : standard uncertainty of the run's own causes other than scatter, in y, shape (n,)
    common : signed contributions of the common causes, in y, shape (n, K)
    group : state of the rig in which the run was made, shape (n,); None where the rig had only one.
        Runs are compared with reference runs of the same state only
    part : index of the physical part that was run, shape (n,): prints of one version are different
        parts; None where each subject is one
    """

    subject: np.ndarray
    y: np.ndarray
    time: np.ndarray
    own: np.ndarray
    common: np.ndarray
    group: np.ndarray | None = None
    part: np.ndarray | None = None

    @property
    def parts(self) -> np.ndarray:
        """The physical part of each run, shape (n,)."""
        return self.subject if self.part is None else self.part

    @property
    def groups(self) -> np.ndarray:
        """State of the rig of each run, shape (n,)."""
        return np.zeros(self.y.size, dtype=int) if self.group is None else self.group

    @property
    def size(self) -> int:
        """Number of runs."""
        return int(self.y.size)


@dataclass(frozen=True)
class Comparison:
    """Each entry against the reference on one test; E entries, S shared causes.

    Parameters
    ----------
    delta : mean difference to the reference in y, shape (E,), NaN where there is none
    own_u : standard uncertainty from the entry's own runs, shape (E,)
    shared : signed contributions of causes shared between entries, shape (E, S)
    of_rig : signed contributions of the rig's causes to the entry's own figure, shape (E, K): what
        of them the reference shares is not taken off
    counts : repeats, shape (E,)
    prints : different parts that an entry's runs were made with, shape (E,)
    repeat_sd, dof : pooled standard deviation of one repeat in y, and its degrees of freedom; NaN
        and 0 where nothing was repeated and no history of the rig is known: then no doubt is told
    history : whether they come from the rig's history
    print_sd, print_dof : standard deviation between prints of one version in y beyond what repeats
        scatter, pooled over the test, and its degrees of freedom; 0 where no version has two prints
    reference_sd : which columns of ``shared`` come from scatter of reference runs, shape (S,) bool
    weights : weight of each reference run in each entry's mean, shape (E, m)
    bridges : specimen -> (difference to the base specimen in y, standard uncertainty, pairs)
    unbridged : specimens that no pair of runs ties to the base
    drift : change of the reference between first and last bracket in y, and its standard
        uncertainty
    left_out : indices of the entry runs that nothing can be compared with
    """

    delta: np.ndarray
    own_u: np.ndarray
    shared: np.ndarray
    of_rig: np.ndarray
    counts: np.ndarray
    prints: np.ndarray
    repeat_sd: float
    dof: float
    reference_sd: np.ndarray
    weights: np.ndarray
    history: bool = False
    print_sd: float = 0.0
    print_dof: int = 0
    bridges: dict[int, tuple[float, float, int]] = field(default_factory=dict)
    unbridged: frozenset[int] = frozenset()
    drift: tuple[float, float] = (0.0, 0.0)
    left_out: tuple[int, ...] = ()

    @property
    def has_doubt(self) -> bool:
        """Whether the scatter of a repeat is known, so that differences have a doubt."""
        return self.dof > 0

    @cached_property
    def u(self) -> np.ndarray:
        """Combined standard uncertainty of delta, shape (E,)."""
        return np.sqrt(self.own_u**2 + np.sum(self.shared**2, axis=1))

    @cached_property
    def effective_dof(self) -> np.ndarray:
        """Effective degrees of freedom of `u`, shape (E,) (GUM eq. G.2b): what comes of scatter has
        the pooled ones, what comes of the rig has infinitely many. An entry's own doubts count
        with its scatter.
        """
        scatter = self.own_u**2 + np.sum(self.shared[:, self.reference_sd] ** 2, axis=1)
        total = self.u**2
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(scatter > 0, self.dof * (total / scatter) ** 2, np.inf)


def between(c: Comparison, one: int, other: int) -> tuple[float, float, float]:
    """Difference of two subjects of a comparison in y, its standard uncertainty and degrees of
    freedom: causes that both share cancel.
    """
    shared = c.shared[one] - c.shared[other]
    scatter = c.own_u[one] ** 2 + c.own_u[other] ** 2 + float(np.sum(shared[c.reference_sd] ** 2))
    u = float(np.sqrt(c.own_u[one] ** 2 + c.own_u[other] ** 2 + np.sum(shared**2)))
    dof = c.dof * (u**2 / scatter) ** 2 if scatter > 0 else np.inf
    return float(c.delta[one] - c.delta[other]), u, float(dof)


BRACKET_GAP = 4 * 3600.0
"""Reference runs further apart than this [s] are two brackets: the bench may have changed in
between.
"""


def brackets(entry_times: np.ndarray, reference_times: np.ndarray) -> np.ndarray:
    """Number of the bracket of each reference run, shape (m,).

    Runs with no entry run between them and no gap above `BRACKET_GAP` form one bracket.
    """
    order = np.argsort(reference_times, kind="stable")
    before = np.searchsorted(np.sort(entry_times), reference_times[order], side="left")
    new = (np.diff(before) > 0) | (np.diff(reference_times[order]) > BRACKET_GAP)
    number = np.empty(reference_times.size, dtype=int)
    number[order] = np.concatenate(([0], np.cumsum(new)))
    return number


def bridge_weights(
    reference: Runs, bracket: np.ndarray, specimens: int, base: int
) -> tuple[np.ndarray, np.ndarray]:
    """Weights on reference runs that give each specimen's difference to the base.

    Returns
    -------
    weights, shape (specimens, m), and the number of brackets in which each was run beside another
    that leads to the base, shape (specimens,); 0 where none does.

    Notes
    -----
    Least squares of specimen mean = level of the bracket + offset of the specimen, each specimen in
    each bracket counting once. A chain (first beside second, later second beside third) ties the
    third to the first.
    """
    levels = np.zeros((specimens, specimens))
    runs = np.zeros((specimens, reference.size))
    beside: list[set[int]] = [set() for _ in range(specimens)]
    shared: list[set[int]] = []
    for number in np.unique(bracket):
        here = bracket == number
        present = np.unique(reference.subject[here])
        if present.size < 2:
            continue
        shared.append(set(present.tolist()))
        centring = np.eye(present.size) - 1 / present.size
        means = np.stack(
            [
                (here & (reference.subject == s)) / np.sum(here & (reference.subject == s))
                for s in present
            ]
        )
        levels[np.ix_(present, present)] += centring
        runs[present] += centring @ means
        for s in present.tolist():
            beside[s] |= shared[-1]
    tied, frontier = {base}, {base}
    while frontier:
        frontier = set().union(*(beside[s] for s in frontier)) - tied
        tied |= frontier
    weights = np.zeros((specimens, reference.size))
    rest = sorted(tied - {base})
    if rest:
        weights[rest] = np.linalg.solve(levels[np.ix_(rest, rest)], runs[rest])
    pairs = np.array(
        [sum(s in together for together in shared) if s in rest else 0 for s in range(specimens)]
    )
    return weights, pairs


def interpolation_weights(
    entry_times: np.ndarray, reference_times: np.ndarray, bracket: np.ndarray
) -> np.ndarray:
    """Weight of each reference run at the moment of each entry run, shape (n, m); rows add up to 1.

    Linear in time between the two brackets around a run; before the first and after the last, that
    bracket alone.
    """
    count = int(bracket.max()) + 1
    centre = np.array([reference_times[bracket == b].mean() for b in range(count)])
    members = np.array([np.sum(bracket == b) for b in range(count)])
    right = np.clip(np.searchsorted(centre, entry_times), 1, max(count - 1, 1))
    left = right - 1
    if count == 1:
        share_right = np.zeros(entry_times.size)
        right = left
    else:
        share_right = np.clip(
            (entry_times - centre[left]) / (centre[right] - centre[left]), 0.0, 1.0
        )
    of_brackets = np.zeros((entry_times.size, count))
    row = np.arange(entry_times.size)
    of_brackets[row, left] = 1 - share_right
    of_brackets[row, right] += share_right
    return (of_brackets / members)[:, bracket]


def _nearest(times: np.ndarray, among: np.ndarray) -> np.ndarray:
    """Index of the nearest of ``among`` for each time."""
    order = np.argsort(among, kind="stable")
    right = (
        np.clip(np.searchsorted(among[order], times), 1, max(among.size - 1, 1))
        if among.size > 1
        else np.zeros(times.size, int)
    )
    left = np.maximum(right - 1, 0)
    nearer_left = np.abs(times - among[order[left]]) <= np.abs(among[order[right]] - times)
    return order[np.where(nearer_left, left, right)]


def pooled_sd(values: np.ndarray, group: np.ndarray) -> tuple[float, int]:
    """Sum of squares about group means and its degrees of freedom (ISO 5725-2, 7.4)."""
    if values.size == 0:
        return 0.0, 0
    ids, index = np.unique(group, return_inverse=True)
    counts = np.bincount(index)
    means = np.bincount(index, values) / counts
    return float(np.sum((values - means[index]) ** 2)), int(values.size - ids.size)


def compare(
    entries: Runs, reference: Runs, entry_count: int, base: int, known: Scatter | None = None
) -> Comparison:
    """Compare entries with the reference on one test.

    Parameters
    ----------
    entries, reference : runs of the entries and of the reference specimens, with the same common
        causes
    entry_count : number of entries E; entries without runs get NaN
    base : index of the reference specimen that all is expressed against
    known : scatter of one repeat in y that the rig showed before, where nothing was repeated

    Raises
    ------
    ValueError : no usable reference run

    Notes
    -----
    A state of the rig is compared within itself: its own brackets, its own interpolation; bridges
    between specimens hold across states. Own scatter is pooled over all parts and brackets, since
    three repeats alone say little about scatter. Each print of a version counts the same; what
    prints differ by beyond the scatter of their repeats is doubt of every version that has several.
    An entry run whose nearest bracket holds only specimens without a bridge to the base is left
    out.
    """
    specimens = int(reference.subject.max(initial=base)) + 1
    bracket = _brackets_by_state(entries, reference)
    to_base, pairs = bridge_weights(reference, bracket, specimens, base)
    tied = (pairs > 0) | (np.arange(specimens) == base)
    usable = tied[reference.subject]
    if not usable.any():
        raise ValueError("no run of the reference, or of a specimen that is bridged to it")
    weights, kept = _weights_by_state(entries, reference, bracket, usable)
    one_of = np.eye(specimens)[reference.subject]
    if specimens > 1:
        weights = weights - weights @ one_of @ to_base
    corrected = entries.y - weights @ reference.y

    counts = np.bincount(entries.subject[kept], minlength=entry_count)
    parts = _Parts.of(entries, kept, entry_count)
    mean = parts.mean
    squares, dof = pooled_sd(corrected[kept], entries.parts[kept])
    # Repeats in several brackets carry the scatter of several reference runs too: (I - P) W f.
    of_parts = parts.each @ weights
    carried = float(np.sum((weights[kept] - of_parts[parts.index]) ** 2))
    reference_squares, reference_dof = pooled_sd(
        reference.y, bracket * specimens + reference.subject
    )
    total_dof = dof + reference_dof
    expected = total_dof + carried  # of the sum of squares, in squares of one repeat
    if total_dof:
        scatter = Scatter(float(np.sqrt((squares + reference_squares) / expected)), total_dof)
    else:
        scatter = known or Scatter(np.nan, 0.0)
    sd = scatter.sd
    print_sd, print_dof = parts.between(corrected, weights, sd)

    entry_weights = mean @ weights
    random = np.sqrt(sd**2 + reference.own**2)
    of_rig = mean @ entries.common
    common = of_rig - entry_weights @ reference.common
    own_variance = mean.multiply(mean) @ (sd**2 + entries.own**2)
    several = parts.count > 1
    if print_sd and several.any():
        own_variance[several] += as_normal(print_sd, print_dof) ** 2 / parts.count[several]
    bridges = {
        s: (
            float(to_base[s] @ reference.y),
            float(np.sqrt(np.sum((to_base[s] * random) ** 2))),
            int(pairs[s]),
        )
        for s in range(specimens)
        if pairs[s]
    }
    return Comparison(
        delta=np.where(counts > 0, mean @ corrected, np.nan),
        own_u=np.sqrt(own_variance),
        shared=np.hstack([-entry_weights * random, common]),
        of_rig=of_rig,
        counts=counts,
        prints=parts.count,
        repeat_sd=sd,
        dof=float(scatter.dof),
        history=not total_dof and known is not None,
        print_sd=print_sd,
        print_dof=print_dof,
        reference_sd=np.concatenate(
            [np.ones(reference.size, bool), np.zeros(common.shape[1], bool)]
        ),
        weights=entry_weights,
        bridges=bridges,
        unbridged=frozenset(
            np.flatnonzero(~tied & np.isin(np.arange(specimens), reference.subject)).tolist()
        ),
        drift=_drift(
            reference,
            one_of @ to_base,
            usable & (reference.groups == _in_order(reference)[-1]),
            bracket,
            random,
        ),
        left_out=tuple(np.flatnonzero(~kept).tolist()),
    )


@dataclass(frozen=True)
class _Parts:
    """The physical parts behind the entries' runs; P parts, n runs, E entries.

    ``index`` part of each kept run, ``owner`` entry of each part (P,), ``count`` parts of each
    entry (E,), ``each`` (P, n) takes the mean of a part's runs, ``mean`` (E, n) the mean of an
    entry's parts.
    """

    index: np.ndarray
    owner: np.ndarray
    count: np.ndarray
    each: scipy.sparse.csr_array
    mean: scipy.sparse.csr_array

    @classmethod
    def of(cls, entries: Runs, kept: np.ndarray, entry_count: int) -> _Parts:
        ids, first, index = np.unique(entries.parts[kept], return_index=True, return_inverse=True)
        owner = entries.subject[kept][first]
        count = np.bincount(owner, minlength=entry_count)
        share = 1 / np.bincount(index)
        rows, shape = np.flatnonzero(kept), entries.size
        return cls(
            index,
            owner,
            count,
            scipy.sparse.csr_array((share[index], (index, rows)), shape=(ids.size, shape)),
            scipy.sparse.csr_array(
                (share[index] / count[owner[index]], (owner[index], rows)),
                shape=(entry_count, shape),
            ),
        )

    def between(self, corrected: np.ndarray, weights: np.ndarray, sd: float) -> tuple[float, int]:
        """Standard deviation between parts of one entry beyond what repeats explain, pooled, and
        its degrees of freedom (ISO 5725-3, B.2); 0 where no entry has two.
        """
        dof = int(np.sum(np.maximum(self.count - 1, 0)))
        if not dof:
            return 0.0, 0
        of_parts = self.each - scipy.sparse.csr_array(self.mean)[self.owner]
        squares = float(np.sum((of_parts @ corrected) ** 2))
        repeats = float(of_parts.multiply(of_parts).sum() + np.sum((of_parts @ weights) ** 2))
        over = (squares - sd**2 * repeats) / dof
        return (float(np.sqrt(over)) if over > 0 else 0.0), dof


def _brackets_by_state(entries: Runs, reference: Runs) -> np.ndarray:
    """Number of the bracket of each reference run over all states of the rig, shape (m,); brackets
    never span two states.
    """
    number = np.zeros(reference.size, dtype=int)
    first = 0
    for state in _in_order(reference):
        of_state = reference.groups == state
        found = brackets(entries.time[entries.groups == state], reference.time[of_state])
        number[of_state] = first + found
        first += int(found.max()) + 1
    return number


def _in_order(runs: Runs) -> list[int]:
    """States of the rig in the order in which they were first used."""
    states = np.unique(runs.groups)
    return sorted(
        states.tolist(), key=lambda state: (float(runs.time[runs.groups == state].min()), state)
    )


def _weights_by_state(
    entries: Runs, reference: Runs, bracket: np.ndarray, usable: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Weight of each reference run in each entry run's reference, shape (n, m), and which entry
    runs have one, shape (n,).
    """
    weights = np.zeros((entries.size, reference.size))
    kept = np.zeros(entries.size, dtype=bool)
    for state in _in_order(reference):
        mine, theirs = entries.groups == state, reference.groups == state
        if not mine.any() or not (theirs & usable).any():
            continue
        kept[mine] = usable[theirs][_nearest(entries.time[mine], reference.time[theirs])]
        chosen = theirs & usable
        number = np.unique(bracket[chosen], return_inverse=True)[1]
        weights[np.ix_(mine, chosen)] = interpolation_weights(
            entries.time[mine], reference.time[chosen], number
        )
    return weights, kept


def _drift(
    reference: Runs, bridge: np.ndarray, chosen: np.ndarray, bracket: np.ndarray, random: np.ndarray
) -> tuple[float, float]:
    """Last bracket minus first of the rig's present state, in y, with its standard uncertainty;
    specimens brought to the base first.
    """
    numbers = np.unique(bracket[chosen])
    if numbers.size < 2:
        return 0.0, 0.0
    weights = np.zeros(reference.size)
    for number, sign in ((numbers[-1], 1.0), (numbers[0], -1.0)):
        members = np.flatnonzero(chosen & (bracket == number))
        weights[members] += sign / members.size
    weights = weights - weights @ bridge
    return float(weights @ reference.y), float(np.sqrt(np.sum((weights * random) ** 2)))
