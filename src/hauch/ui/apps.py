from django.apps import AppConfig


class UiConfig(AppConfig):
    name = "hauch.ui"
    label = "ui"
