from django.apps import AppConfig


class WorkshopConfig(AppConfig):
    name = "hauch.workshop"
    label = "workshop"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """What a check of a part finds holds for its specimens; a quick comparison has one print of
        each version.
        """
        from hauch.entries.signals import part_checked, version_added
        from hauch.rounds.signals import gate_wanted

        part_checked.connect(_limits_anew, dispatch_uid="workshop.limits_anew")
        version_added.connect(_first_print, dispatch_uid="workshop.first_print")
        gate_wanted.connect(_to_the_gate, dispatch_uid="workshop.to_the_gate")


def _first_print(sender, user, version, **kwargs) -> None:
    from hauch.workshop.actions import make_specimen

    if version.entry.round.quick:
        make_specimen(user, version)


def _limits_anew(sender, version, **kwargs) -> None:
    from hauch.workshop.actions import limits_anew

    limits_anew(version)


def _to_the_gate(sender, user, round, **kwargs) -> None:
    from hauch.workshop.actions import to_the_gate

    to_the_gate(user, round)
