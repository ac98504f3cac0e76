from django.apps import AppConfig


class StoresConfig(AppConfig):
    name = "hauch.stores"
    label = "stores"
    default_auto_field = "django.db.models.BigAutoField"
