from django.apps import AppConfig
from django.db.models.signals import post_save


class SeasonConfig(AppConfig):
    name = "hauch.season"
    label = "season"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.season.actions import follow_print
        from hauch.workshop.models import Specimen

        post_save.connect(
            lambda sender, instance, created, raw, **_: (
                None if created or raw else follow_print(instance)
            ),
            sender=Specimen,
            weak=False,
            dispatch_uid="season",
        )
