from django.apps import AppConfig


class WebConfig(AppConfig):
    name = "hauch.web"
    label = "web"
    default_auto_field = "django.db.models.BigAutoField"
