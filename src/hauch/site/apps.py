from django.apps import AppConfig


class SiteConfig(AppConfig):
    name = "hauch.site"
    label = "site"
    default_auto_field = "django.db.models.BigAutoField"
