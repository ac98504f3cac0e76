from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "hauch.bench"
    label = "bench"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.bench import progress
        from hauch.bench.jobs import follow_meter, follow_rig, follow_tests
        from hauch.entries.signals import version_named
        from hauch.rounds.signals import tests_replaced
        from hauch.stores.signals import meter_changed, rig_completed

        tests_replaced.connect(follow_tests, dispatch_uid="bench")
        rig_completed.connect(follow_rig, dispatch_uid="bench")
        meter_changed.connect(follow_meter, dispatch_uid="bench")
        version_named.connect(
            lambda sender, entry, **_: progress.update_entry(entry.pk),
            weak=False,
            dispatch_uid="bench",
        )
