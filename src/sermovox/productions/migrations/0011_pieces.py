"""What sections are made of becomes rows; the history tells of those too."""

import django.db.models.deletion
from django.db import migrations, models

_OF_STRETCHES = ("start_sample", "join", "join_s", "kind", "gain_db", "fade_in_s", "fade_out_s")
_KEPT_TWICE = ("recording_id", "programme", "length_s")


def _pieces(row, known):
    """What a section was made of, as plain pieces; a recording that is no longer there is none."""
    if row["programme"]:
        return [
            {
                "recording_id": key if (key := int(stretch["recording"])) in known else None,
                "end_sample": stretch["end_sample"],
            }
            | {name: stretch[name] for name in _OF_STRETCHES if stretch.get(name)}
            for stretch in row["programme"]
        ]
    return [{"recording_id": row["recording_id"]}] if row["recording_id"] in known else []


def make_pieces(apps, schema_editor):
    """Fill the rows from what sections hold, and put pieces into changes for what they held then."""
    Section = apps.get_model("productions", "Section")
    Piece = apps.get_model("productions", "Piece")
    known = set(apps.get_model("recordings", "Recording").objects.values_list("pk", flat=True))
    state = {row.pop("pk"): row for row in Section.objects.values("pk", "recording_id", "programme")}
    Piece.objects.bulk_create(
        Piece(section_id=section, place=place, **piece)
        for section, row in state.items()
        for place, piece in enumerate(_pieces(row, known))
    )
    changes = apps.get_model("history", "Change").objects
    # Backwards from how it is now through what was done, and onwards through what was undone.
    for change in changes.filter(undone=False).order_by("-pk"):
        _step(change, change.before, change.after, dict(state), state, known)
    state = {row.pop("pk"): row for row in Section.objects.values("pk", "recording_id", "programme")}
    for change in changes.filter(undone=True).order_by("pk"):
        _step(change, change.after, change.before, dict(state), state, known)


def _step(change, there, back, was, state, known):
    """Put pieces into both sides of a change, and take the state over it: `there` is the side that is come to."""
    for key in list(there):
        if not key.isdecimal():
            continue
        old = was.get(int(key), {"recording_id": None, "programme": []})
        new = old | {name: value for name, value in there[key].items() if name in old}
        told = not {"recording_id", "programme"}.isdisjoint({*there[key], *back.get(key, ())})
        for side, row in ((there, new), (back, old)):
            side[key] = {name: value for name, value in side.get(key, {}).items() if name not in _KEPT_TWICE}
            if told:
                side[key]["pieces"] = _pieces(row, known)
        if not there[key] and not back[key]:
            del there[key], back[key]
        state[int(key)] = new
    change.save(update_fields=["before", "after"])


class Migration(migrations.Migration):
    # Those that look at what sections hold come first.
    dependencies = [
        ("cutting", "0001_initial"),
        ("deliveries", "0011_kept_safe"),
        ("history", "0001_initial"),
        ("productions", "0010_change_moves_to_history"),
        ("recordings", "0004_kept_safe"),
    ]

    operations = [
        migrations.CreateModel(
            name="Piece",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("place", models.PositiveIntegerField(default=0)),
                ("start_sample", models.PositiveBigIntegerField(default=0)),
                ("end_sample", models.PositiveBigIntegerField(null=True)),
                ("join", models.CharField(default="butt", max_length=10)),
                ("join_s", models.FloatField(default=0.0)),
                ("kind", models.CharField(blank=True, max_length=10)),
                ("gain_db", models.FloatField(default=0.0)),
                ("fade_in_s", models.FloatField(default=0.0)),
                ("fade_out_s", models.FloatField(default=0.0)),
                (
                    "recording",
                    models.ForeignKey(
                        blank=True,
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="pieces",
                        to="recordings.recording",
                    ),
                ),
                (
                    "section",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="pieces", to="productions.section"
                    ),
                ),
            ],
            options={"ordering": ["section", "place"]},
        ),
        migrations.AddConstraint(
            model_name="piece",
            constraint=models.UniqueConstraint(fields=("section", "place"), name="one_piece_at_a_place"),
        ),
        migrations.RunPython(make_pieces, migrations.RunPython.noop),
        migrations.RemoveField(model_name="section", name="recording"),
        migrations.RemoveField(model_name="section", name="programme"),
    ]
