from django.apps import AppConfig


class RoundsConfig(AppConfig):
    name = "hauch.rounds"
    label = "rounds"
    default_auto_field = "django.db.models.BigAutoField"
