from django.apps import AppConfig
from django.contrib.auth.signals import user_logged_in


class PeopleConfig(AppConfig):
    name = "hauch.people"
    label = "people"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Note where people sign in."""
        from hauch.people.sessions import remember

        user_logged_in.connect(remember, dispatch_uid="people.sign_ins")
