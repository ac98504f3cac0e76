from django.apps import AppConfig


class VerdictConfig(AppConfig):
    name = "hauch.verdict"
    label = "verdict"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.bench.signals import results_changed
        from hauch.entries.signals import entries_changed
        from hauch.rounds.signals import rules_changed
        from hauch.verdict.actions import results_have_changed

        for signal in (results_changed, entries_changed, rules_changed):
            signal.connect(
                lambda sender, round, **_: results_have_changed(round),
                weak=False,
                dispatch_uid="verdict",
            )
