from django.apps import AppConfig


class PlanConfig(AppConfig):
    name = "hauch.plan"
    label = "plan"
    default_auto_field = "django.db.models.BigAutoField"
