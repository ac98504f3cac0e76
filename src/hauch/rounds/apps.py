from django.apps import AppConfig


class RoundsConfig(AppConfig):
    name = "hauch.rounds"
    label = "rounds"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.rounds.rigs import follow_rig
        from hauch.stores.signals import rig_changed

        rig_changed.connect(follow_rig, dispatch_uid="rounds")
