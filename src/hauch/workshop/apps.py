from django.apps import AppConfig


class WorkshopConfig(AppConfig):
    name = "hauch.workshop"
    label = "workshop"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """What a check of a part finds holds for its specimens."""
        from hauch.entries.signals import part_checked

        part_checked.connect(_limits_anew, dispatch_uid="workshop.limits_anew")


def _limits_anew(sender, version, **kwargs) -> None:
    from hauch.workshop.actions import limits_anew

    limits_anew(version)
