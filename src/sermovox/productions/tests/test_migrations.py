"""Databases made by earlier versions keep what is in them."""

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

BEFORE = [("productions", "0002_initial"), ("recordings", "0001_initial"), ("deliveries", "0002_initial")]


class FromBeforeTheRunningOrder(TransactionTestCase):
    def tearDown(self):
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_productions_get_keys_and_sections_and_recordings_stay(self):
        executor = MigrationExecutor(connection)
        executor.migrate(BEFORE)
        old = executor.loader.project_state(BEFORE).apps
        narrator = old.get_model("accounts", "User").objects.create(username="ilse")
        Production, Section = old.get_model("productions", "Production"), old.get_model("productions", "Section")
        for title in ("Salt and Cedar", "Salt & Cedar", "salt and cedar", "Übers Meer", "海"):
            production = Production.objects.create(owner=narrator, title=title, last_outlet="podcast-host")
            old.get_model("deliveries", "Delivery").objects.create(
                production=production, outlet_key="podcast-host", outlet_toml="key = 'podcast-host'"
            )
        recording = old.get_model("recordings", "Recording").objects.create(
            production=production, sha256="0" * 64, name="a.wav", size_bytes=3, state="ready", figures={"channels": 1}
        )
        Section.objects.create(production=production, position=1, title="One", recording=recording)

        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        from sermovox.deliveries.models import Delivery
        from sermovox.productions.models import Production, Section

        keys = list(Production.objects.order_by("pk").values_list("key", flat=True))
        self.assertEqual(keys[:3], ["salt-and-cedar", "salt-cedar", "salt-and-cedar-2"])
        self.assertEqual((len(set(keys)), keys[4]), (5, "production"))
        section = Section.objects.get()
        self.assertEqual((section.recording.name, section.removed, section.exact_name), ("a.wav", False, ""))
        self.assertEqual(section.recording.figures, {"channels": 1})
        production = Production.objects.first()
        self.assertEqual((production.last_outlets, production.outlet.key), (["podcast-host"], "podcast-host"))
        runs = set(Delivery.objects.values_list("run", flat=True))
        self.assertEqual((len(runs), None in runs), (5, False))
