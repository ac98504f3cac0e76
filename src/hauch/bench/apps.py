from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "hauch.bench"
    label = "bench"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.bench.jobs import follow_tests
        from hauch.rounds.signals import tests_replaced

        tests_replaced.connect(follow_tests, dispatch_uid="bench")
