from django.apps import AppConfig


class SiteConfig(AppConfig):
    name = "hauch.site"
    label = "site"
