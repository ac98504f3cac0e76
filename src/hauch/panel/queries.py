"""Reading panels: what can be judged in a round."""

from __future__ import annotations

from hauch.bench.plan import Plan
from hauch.bench.runs import Subject
from hauch.entries.models import Entry
from hauch.rounds.models import Round
from hauch.workshop.models import Specimen

MOST_OFFERED = 400


def judgeable(round: Round, plan: Plan) -> dict[str, tuple[str, Subject]]:
    """What can be judged, by the key that a form sends: the references in use, and all prints that are
    ready, of however many entries.
    """
    references = {r.pk: r for r in [*plan.references.values(), *plan.beside]}
    prints = Specimen.objects.filter(
        version__entry__round=round,
        version__entry__state=Entry.State.IN,
        state=Specimen.State.READY,
    ).select_related("version__entry")
    found = {
        f"r{pk}": (f"{reference}, reference", Subject(reference=reference))
        for pk, reference in references.items()
    }
    for one in prints.order_by("version__entry__name", "code")[:MOST_OFFERED]:
        found[f"s{one.pk}"] = (f"{one.version.entry.name}, specimen {one.code}", Subject(one))
    return found
