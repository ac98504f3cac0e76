from django.apps import AppConfig


class ExchangeConfig(AppConfig):
    name = "hauch.exchange"
    label = "exchange"
