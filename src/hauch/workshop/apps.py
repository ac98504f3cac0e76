from django.apps import AppConfig


class WorkshopConfig(AppConfig):
    name = "hauch.workshop"
    label = "workshop"
    default_auto_field = "django.db.models.BigAutoField"
