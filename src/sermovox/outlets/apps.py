from django.apps import AppConfig


class OutletsConfig(AppConfig):
    name = "sermovox.outlets"
