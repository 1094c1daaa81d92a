from django.apps import AppConfig


class LevellingConfig(AppConfig):
    name = "sermovox.levelling"
