from django.apps import AppConfig


class ProofingConfig(AppConfig):
    name = "sermovox.proofing"
