from django.apps import AppConfig
from django.utils.module_loading import autodiscover_modules


class UiConfig(AppConfig):
    name = "sermovox.ui"

    def ready(self) -> None:
        """Read what apps register to be kept in the history."""
        autodiscover_modules("tracked")
