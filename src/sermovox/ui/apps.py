from django.apps import AppConfig
from django.utils.module_loading import autodiscover_modules


class UiConfig(AppConfig):
    name = "sermovox.ui"

    def ready(self) -> None:
        """Read what apps register: how their work is put back, and what of theirs is kept in the history."""
        autodiscover_modules("recovery", "tracked")
