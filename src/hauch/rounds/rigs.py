"""What a change of a rig means for rounds."""

from __future__ import annotations

from typing import Any

from hauch.rounds.models import Round, Test
from hauch.stores.models import Rig


def follow_rig(sender: Any, old: Rig, new: Rig, **_: Any) -> None:
    """Tests that are still measured go on with the rig's new state; runs so far keep the state in
    which they were made.
    """
    Test.objects.current().filter(rig=old).exclude(round__state=Round.State.PUBLISHED).update(
        rig=new
    )
