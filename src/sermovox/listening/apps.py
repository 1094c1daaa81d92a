from django.apps import AppConfig


class ListeningConfig(AppConfig):
    name = "sermovox.listening"
