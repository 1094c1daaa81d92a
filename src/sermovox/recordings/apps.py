from django.apps import AppConfig


class RecordingsConfig(AppConfig):
    name = "sermovox.recordings"
