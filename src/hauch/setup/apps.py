from django.apps import AppConfig


class SetupConfig(AppConfig):
    name = "hauch.setup"
    label = "setup"
    default_auto_field = "django.db.models.BigAutoField"
