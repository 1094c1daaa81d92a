from django.apps import AppConfig


class HistoryConfig(AppConfig):
    name = "sermovox.history"
