from django.apps import AppConfig


class CuttingConfig(AppConfig):
    name = "sermovox.cutting"
