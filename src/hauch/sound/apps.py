from django.apps import AppConfig


class SoundConfig(AppConfig):
    name = "hauch.sound"
    label = "sound"
    default_auto_field = "django.db.models.BigAutoField"
