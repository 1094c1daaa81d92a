from django.apps import AppConfig
from django.db.models.signals import post_save


class DispatchConfig(AppConfig):
    name = "sermovox.dispatch"

    def ready(self) -> None:
        from sermovox.dispatch.models import Secret
        from sermovox.outlets.models import RuleSheet

        def put_away(sender, instance: RuleSheet, **_: object) -> None:
            """What opened an outlet goes with it: another may be brought in by its key."""
            if instance.removed:
                Secret.objects.filter(owner=instance.owner_id, outlet_key=instance.key).delete()

        post_save.connect(put_away, sender=RuleSheet, weak=False)
