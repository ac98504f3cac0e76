from django.apps import AppConfig


class EntriesConfig(AppConfig):
    name = "hauch.entries"
    label = "entries"
    default_auto_field = "django.db.models.BigAutoField"
