"""Databases made by earlier versions keep what is in them."""

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

from sermovox.productions.models import pieces_of

BEFORE = [("productions", "0002_initial"), ("recordings", "0001_initial"), ("deliveries", "0002_initial")]
BEFORE_PIECES = [
    ("productions", "0010_change_moves_to_history"),
    ("recordings", "0004_kept_safe"),
    ("deliveries", "0011_kept_safe"),
    ("history", "0001_initial"),
    ("cutting", "0001_initial"),
]


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


class FromBeforePieces(TransactionTestCase):
    """What sections were made of was kept as JSON, and their recording beside it; so it was in the history."""

    def tearDown(self):
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_pieces_are_rows_and_undo_and_redo_go_on_from_where_they_were(self):
        executor = MigrationExecutor(connection)
        executor.migrate(BEFORE_PIECES)
        old = executor.loader.project_state(BEFORE_PIECES).apps
        narrator = old.get_model("accounts", "User").objects.create(username="ilse")
        production = old.get_model("productions", "Production").objects.create(owner=narrator, title="Salt", key="salt")
        Recording, Section = old.get_model("recordings", "Recording"), old.get_model("productions", "Section")
        take, other = (
            Recording.objects.create(
                production=production, sha256=digit * 64, name=f"{digit}.wav", size_bytes=3, state="ready",
                figures={"channels": 1, "frames": 900, "sample_rate_hz": 100, "duration_s": 9.0},
            )
            for digit in "12"
        )  # fmt: skip
        first = {"recording": str(take.pk), "start_sample": 0, "end_sample": 300}
        second = {"recording": str(other.pk), "start_sample": 100, "end_sample": 200, "join": "pause", "join_s": 0.5}
        gone = {"recording": "987654", "start_sample": 5, "end_sample": 6}
        made = {"production": production, "removed": False}
        cut = Section.objects.create(position=1, title="Cut", recording=take, programme=[first, second], **made)
        whole = Section.objects.create(position=2, title="Whole", recording=other, **made)
        Section.objects.create(position=3, title="Lost", recording=None, programme=[gone], **made)
        Section.objects.create(position=4, title="Waits", **made)

        Change = old.get_model("history", "Change")
        key, marks = str(cut.pk), {"page 1": {"marks": []}}
        for words, before, after, undone in (
            ("Give it", {key: {"recording_id": None}}, {key: {"recording_id": take.pk}}, False),
            (
                "Cut it",
                {key: {"programme": [], "length_s": None}} | marks,
                {key: {"programme": [first], "length_s": 3.0}} | marks,
                False,
            ),
            ("Strike", {key: {"length_s": 3.0}} | marks, {key: {"length_s": 2.0}} | marks, False),
            (
                "Join",
                {key: {"programme": [first]}, str(whole.pk): {"title": "All"}},
                {key: {"programme": [first, second]}, str(whole.pk): {"title": "Whole"}},
                False,
            ),
            (
                "Give another",
                {key: {"programme": [first, second], "recording_id": take.pk}},
                {key: {"programme": [], "recording_id": other.pk}},
                True,
            ),
            ("Take it away", {key: {"recording_id": other.pk}}, {key: {"recording_id": None}}, True),
        ):
            Change.objects.create(production=production, words=words, before=before, after=after, undone=undone)

        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        from sermovox.history.changing import redo, undo
        from sermovox.history.models import Change
        from sermovox.productions.models import Production

        production = Production.objects.get()
        cut, whole, lost, waits = production.sections.all()
        plain = {"recording_id": take.pk, "end_sample": 300}
        joined = {"recording_id": other.pk, "end_sample": 200, "start_sample": 100, "join": "pause", "join_s": 0.5}
        self.assertEqual(pieces_of(production)[cut.pk], [plain, joined])
        self.assertEqual((cut.recording.name, cut.is_cut, whole.recording.name), ("1.wav", True, "2.wav"))
        self.assertEqual((whole.is_cut, waits.made_of), (False, []))
        self.assertEqual([(stretch.recording, stretch.end_sample) for stretch in lost.stretches()], [("", 6)])
        self.assertEqual(list(production.sections.waiting()), [waits])
        self.assertEqual([change.words for change in Change.objects.filter(before={})], [])

        steps = [[{"recording_id": take.pk}], [plain], [plain], [plain, joined], [{"recording_id": other.pk}], []]
        titles = ["All", "All", "All", "Whole", "Whole", "Whole"]
        for at in (2, 1, 0):
            undo(production)
            self.assertEqual(pieces_of(production)[cut.pk], steps[at], at)
            self.assertEqual(production.sections.get(pk=whole.pk).title, titles[at])
        undo(production)
        self.assertEqual(production.sections.get(pk=cut.pk).made_of, [])
        for at in range(6):
            redo(production)
            self.assertEqual(pieces_of(production).get(cut.pk, []), steps[at], at)
            self.assertEqual(production.sections.get(pk=whole.pk).title, titles[at])
