from django.apps import AppConfig


class LiveConfig(AppConfig):
    name = "hauch.live"
    label = "live"
