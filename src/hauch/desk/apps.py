from django.apps import AppConfig


class DeskConfig(AppConfig):
    name = "hauch.desk"
    label = "desk"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from hauch.desk.warm import warm_up

        warm_up()
