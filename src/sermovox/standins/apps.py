from django.apps import AppConfig


class StandinsConfig(AppConfig):
    name = "sermovox.standins"
