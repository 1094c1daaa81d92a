"""The page of a recording: its marks, and the voices beside it."""

from functools import lru_cache
from pathlib import PurePath

from django.db import models, transaction
from django.urls import reverse

from mastering.editing import assembly, markkinds, markup
from mastering.editing.markup import Marks
from mastering.editing.pauses import Pauses, find_pauses
from mastering.editing.pieces import BadCut
from mastering.errors import UnreadableRecording
from mastering.meters.measurement import Measurement
from mastering.meters.sides import LEFT, RIGHT
from mastering.meters.speech import quietest_stretch
from mastering.rendering import Track
from mastering.said import Said
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording
from sermovox.recordings.tasks import queue_drawing

_MEASURED_AGAIN = Said("recording-being-measured-anew-because")


class Page(models.Model):
    """What was marked on a recording. Made when the recording's page is first opened.

    `marks` is the list of `mastering.editing.markup`. `facts` may hold "tone", the samples room tone is made from,
    where somebody chose them; "lanes", the recordings that sound beside this one, each with "recording",
    "offset_samples" and "gain_db"; "sides", where its two sides are two voices; and "separate", where each voice
    becomes a file of its own. `found_tone` is the
    quietest stretch, null when all is silence. `proof` is what was settled of the proof sheet, and what a listener
    noted, by keys. `revision` counts the changes.
    """

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="pages")
    recording = models.OneToOneField(Recording, on_delete=models.CASCADE, related_name="page")
    marks = models.JSONField(default=list)
    facts = models.JSONField(default=dict)
    proof = models.JSONField(default=dict)
    found_tone = models.JSONField(null=True)
    revision = models.PositiveIntegerField(default=0)

    def __str__(self) -> str:
        return Said("page", recording=self.recording)

    def get_absolute_url(self) -> str:
        return reverse("cutting:page", args=[self.recording_id])

    @classmethod
    def of(cls, recording: Recording) -> "Page":
        """A recording's page. Raises UnreadableRecording while it is not measured."""
        page = cls.objects.filter(recording=recording).first()
        if page is None:
            quiet = quietest_stretch(measurement_of(recording).levels.envelope)
            rate_hz = recording.rate_hz
            # The last of the 10 ms the envelope is made of may reach beyond the end.
            tone = [min(recording.frames, round(edge_s * rate_hz)) for edge_s in quiet] if quiet else None
            page, _ = cls.objects.get_or_create(
                recording=recording, defaults={"production": recording.production, "found_tone": tone}
            )
        page.recording = recording
        return page

    def looked_at_again(self) -> "Page":
        """Read it anew, inside a transaction that nobody else's change can come between."""
        self.refresh_from_db(fields=["marks", "facts", "proof", "revision"])
        return self

    @property
    def mark_list(self) -> Marks:
        return markup.from_list(self.marks)

    @property
    def sample_rate_hz(self) -> int:
        return self.recording.rate_hz

    @property
    def tone(self) -> tuple[int, int] | None:
        chosen = self.facts.get("tone") or self.found_tone
        return tuple(chosen) if chosen else None

    @property
    def lanes(self) -> list[dict]:
        """The voices beside this one."""
        return self.facts.get("lanes", [])

    @property
    def sides(self) -> dict | None:
        """Where its two sides are two voices, brought to the middle: "gain_db" of the right one."""
        return self.facts.get("sides")

    @property
    def is_marked(self) -> bool:
        """Whether any mark on it is heard, or a voice beside it."""
        return bool(self.lanes or self.sides) or any(row["kind"] != markkinds.POINT for row in self.marks)

    def as_core(self) -> assembly.MarkedRecording:
        return assembly.MarkedRecording(self.mark_list, self.tone, self.sample_rate_hz, self.recording.frames)

    def set_marks(self, marks: Marks) -> None:
        """Keep these marks; saves."""
        self.marks = markup.as_list(marks)
        self._save()

    def set_facts(self, **facts) -> None:
        """Keep these facts beside the others, and forget those that say nothing; saves."""
        self.facts = {name: value for name, value in (self.facts | facts).items() if value}
        self._save()

    def set_proof(self, rows: dict[str, dict | None]) -> None:
        """Keep these rows of the proof beside the others, and forget those that are None; saves."""
        self.proof = {key: row for key, row in (self.proof | rows).items() if row}
        self._save()

    def state(self) -> tuple[dict[str, dict], dict, dict[str, dict]]:
        """What can be undone: marks by their ids, facts, and what was settled of the proof."""
        return {str(row["id"]): row for row in self.marks}, dict(self.facts), dict(self.proof)

    def difference(self, was: tuple[dict[str, dict], dict, dict[str, dict]]) -> tuple[dict, dict]:
        """What it takes to come back to an earlier state, and from there to this one; empty where nothing changed."""
        old, new = {}, {}
        (marks_before, facts_before, proof_before), (marks, facts, proof) = was, self.state()
        for name, before, after in (("marks", marks_before, marks), ("proof", proof_before, proof)):
            changed = [key for key in before | after if before.get(key) != after.get(key)]
            if changed:
                old[name] = {key: before.get(key) for key in changed}
                new[name] = {key: after.get(key) for key in changed}
        if facts != facts_before:
            old["facts"], new["facts"] = facts_before, facts
        return old, new

    def take_back(self, change: dict) -> None:
        """Apply one side of a difference."""
        rows = {str(row["id"]): row for row in self.marks} | change.get("marks", {})
        self.marks = sorted(
            (row for row in rows.values() if row), key=lambda row: (row["start_sample"], row["end_sample"], row["id"])
        )
        self.facts = change.get("facts", self.facts)
        self.proof = {key: row for key, row in (self.proof | change.get("proof", {})).items() if row}
        self._save()

    def _save(self) -> None:
        self.revision += 1
        self.save(update_fields=["marks", "facts", "proof", "revision"])


def measurement_of(recording: Recording) -> Measurement:
    """The whole measurement. Raises UnreadableRecording while it is being measured, or measured anew."""
    if not recording.ready:
        raise UnreadableRecording(recording.refusal or Said("recording-still-being-measured-takes"))
    found = recording.kept_measurement()
    if found is None:
        transaction.on_commit(lambda: queue_drawing(recording))
        raise UnreadableRecording(_MEASURED_AGAIN)
    return found


@lru_cache(maxsize=16)
def _pauses(sha256: str, key: int, level_db: float | None, shortest_s: float) -> Pauses:
    measurement = measurement_of(Recording.objects.get(pk=key))
    return find_pauses(measurement.levels.envelope, level_db=level_db, shortest_s=shortest_s)


def pauses_of(recording: Recording, *, level_db: float | None = None, shortest_s: float = 0.3) -> Pauses:
    """The pauses of a recording, found once for each level and length."""
    return _pauses(recording.sha256, recording.pk, level_db, shortest_s)


def tracks_of(recordings: dict[str, Recording], pages: dict[str, Page]) -> dict[str, list[dict]]:
    """The files that sound for each recording, by its name in programmes, as plain values for JSON.

    Raises BadCut when a voice is no longer there.
    """
    tracks = {}
    for name, recording in recordings.items():
        lanes = pages[name].lanes if name in pages else []
        tracks[name] = _own_tracks(recording, pages.get(name))
        beside = {each.pk: each for each in Recording.objects.filter(pk__in=[lane["recording"] for lane in lanes])}
        for lane in lanes:
            other = beside.get(lane["recording"])
            if other is None:
                raise BadCut(Said("voice-beside-no-longer-there", name=recording.name))
            tracks[name].append(
                {
                    "sha256": other.sha256,
                    "name": other.name,
                    "offset_samples": lane["offset_samples"],
                    "gain_db": lane["gain_db"],
                }
            )
    return tracks


def _own_tracks(recording: Recording, page: Page | None) -> list[dict]:
    """A recording as one track, or as the two voices on its sides."""
    if page is None or page.sides is None or recording.figures.get("channels") != 2:
        return [{"sha256": recording.sha256}]
    name = PurePath(recording.name).stem
    left = {"sha256": recording.sha256, "fold": LEFT, "name": f"{name} left"}
    right = {"fold": RIGHT, "name": f"{name} right", "gain_db": page.sides["gain_db"]}
    return [left, left | right]


def as_track(values: dict, stored) -> Track:
    """A track from its plain values; `stored` gives the path of a file by its hash."""
    return Track(
        stored(values["sha256"]), values.get("offset_samples", 0), values.get("gain_db", 0.0), values.get("fold", "")
    )
