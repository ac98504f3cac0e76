"""What a sitting came to: each criterion and face on its own, all of them by their weights, how far the
judges agree, and who stands apart.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.judge.agreement import Agreement, Alike, agreement, alike, places_given
from hauch.panel.models import Judge, Sample, Sitting

Totals = dict[int, dict[int, float]]
"""By judge and sample: points, or places in per cent (0 the best end, 100 the other)."""


@dataclass(frozen=True, slots=True)
class Column:
    """What was judged under one name: a criterion, a face, or all of them.

    Parameters
    ----------
    name : of the criterion or face
    weight : what it counts
    means : mean over the judges, by sample [points or %]
    u : its standard uncertainty by how far the judges differ
    agreement : of the judges' rankings by what they gave here
    """

    name: str
    weight: float
    means: dict[int, float]
    u: dict[int, float]
    agreement: Agreement[int]

    @property
    def counts(self) -> str:
        """The weight as it is shown."""
        return f"{self.weight:g}"


@dataclass(frozen=True, slots=True)
class Told:
    """What a sitting came to.

    Parameters
    ----------
    total : all criteria by their weights
    criteria : each over all faces
    items : each criterion at each face, where there are several faces
    by_judge : what each judge's marks come to, by sample
    judges : each judge with how alike to the others
    """

    total: Column
    criteria: list[Column]
    items: list[Column]
    by_judge: Totals
    judges: list[tuple[Judge, Alike]]


def told(sitting: Sitting) -> Told:
    """What has been given so far, put together."""
    judges = list(sitting.judges.all())
    samples = list(sitting.samples.values_list("pk", flat=True))
    marks = _marks(sitting, judges)
    places = range(len(sitting.criteria))
    faces = range(1, sitting.faces + 1)
    each = {
        (face, n): {judge.pk: marks[judge.pk].get((face, n), {}) for judge in judges}
        for face in faces
        for n in places
    }
    best_is_low = sitting.by_places

    def column(name: str, weight: float, totals: Totals) -> Column:
        sign = 1.0 if best_is_low else -1.0
        rankings = [{s: sign * v for s, v in one.items()} for one in totals.values()]
        return Column(name, weight, *_middle(totals, samples), agreement(rankings, samples))

    weights = [weight for _, weight in sitting.weighed]
    total = _weighed(each, {(face, n): weights[n] for face in faces for n in places})
    sign = 1.0 if best_is_low else -1.0
    held = alike([{s: sign * v for s, v in total[j.pk].items()} for j in judges], samples)
    return Told(
        column("all", 1.0, total),
        [
            column(name, weight, _weighed(each, {(face, n): 1.0 for face in faces}))
            for n, (name, weight) in enumerate(sitting.weighed)
        ],
        [column(sitting.item(face, n), weights[n], each[face, n]) for n in places for face in faces]
        if sitting.faces > 1
        else [],
        total,
        list(zip(judges, held, strict=True)),
    )


def _marks(
    sitting: Sitting, judges: Sequence[Judge]
) -> dict[int, dict[tuple[int, int], dict[int, float]]]:
    """What each judge gave, by judge, face and criterion, and sample: points, or places in per cent of
    what was ranked.
    """
    found: dict[int, dict[tuple[int, int], dict[int, float]]] = {}
    for judge in judges:
        given = found.setdefault(judge.pk, {})
        rows = judge.marks.values_list("face", "criterion", "sample_id", "points")
        for face, criterion, sample, points in rows:
            given.setdefault((face, criterion), {})[sample] = points
        if sitting.by_places:
            for key, places in given.items():
                given[key] = {s: 100 * share for s, share in places_given(places).items()}
    return found


def _weighed(
    each: Mapping[tuple[int, int], Totals], weights: Mapping[tuple[int, int], float]
) -> Totals:
    """Weighted mean of what each judge gave a sample, over what was judged of it."""
    sums: dict[int, dict[int, tuple[float, float]]] = {}
    for key, weight in weights.items():
        for judge, given in each[key].items():
            mine = sums.setdefault(judge, {})
            for sample, value in given.items():
                there, counted = mine.get(sample, (0.0, 0.0))
                mine[sample] = (there + weight * value, counted + weight)
    return {
        judge: {sample: total / weight for sample, (total, weight) in mine.items() if weight > 0}
        for judge, mine in sums.items()
    }


def _middle(totals: Totals, samples: Sequence[int]) -> tuple[dict[int, float], dict[int, float]]:
    """Mean over the judges, and its standard uncertainty, by sample."""
    means, doubts = {}, {}
    for sample in samples:
        given = np.array([one[sample] for one in totals.values() if sample in one])
        if given.size:
            means[sample] = float(given.mean())
            doubts[sample] = (
                float(given.std(ddof=1) / np.sqrt(given.size)) if given.size > 1 else 0.0
            )
    return means, doubts


def rows(result: Told, samples: Sequence[Sample], best_is_low: bool) -> list[Sample]:
    """Samples with the best first; those that nobody judged last."""
    sign = 1.0 if best_is_low else -1.0
    return sorted(
        samples,
        key=lambda one: (
            one.pk not in result.total.means,
            sign * result.total.means.get(one.pk, 0.0),
            one.code,
        ),
    )
