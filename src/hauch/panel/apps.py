from django.apps import AppConfig


class PanelConfig(AppConfig):
    name = "hauch.panel"
    label = "panel"
    default_auto_field = "django.db.models.BigAutoField"
