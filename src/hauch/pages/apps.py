from django.apps import AppConfig


class PagesConfig(AppConfig):
    name = "hauch.pages"
    label = "pages"

    def ready(self) -> None:
        from hauch.pages.line import stations
        from hauch.ui.line import provide

        provide(stations)
