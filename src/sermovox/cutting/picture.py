"""The programme of a section as it is drawn: each piece with its sound and its words, at the times when it is heard."""

from collections.abc import Mapping
from itertools import pairwise

from mastering.editing.assembly import CROSSFADE, PAUSE, Stretch
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.spoken import Spoken
from sermovox.productions.models import Section
from sermovox.recordings.models import Recording


def picture_of(section: Section, made: Assembly, recordings: Mapping[str, Recording]) -> list[dict]:
    """What each piece of a section looks like; times in seconds of the section, edges in samples of its recording.

    `spans` are what sounds of it: what is struck out is not among them. Raises BadCut or UnreadableRecording.
    """
    spoken = Spoken(section.production)
    drawn: list[dict] = []
    end_s = 0.0
    for at, stretch in enumerate(section.stretches()):
        pieces = made.pieces([stretch])
        starts_s = made.starts_s(pieces)
        joins = bool(pieces) and any(each["spans"] for each in drawn)
        start_s = end_s + _later(stretch) if joins else end_s
        recording = recordings[stretch.recording]
        drawn.append(
            {
                "at": at,
                "name": recording.name,
                "recording": stretch.recording,
                "rate": recording.rate_hz,
                "frames": recording.frames,
                "start": stretch.start_sample,
                "end": stretch.end_sample,
                "start_s": start_s,
                "end_s": (end_s := start_s + starts_s[-1]),
                "join": stretch.join if joins else "",
                "join_s": stretch.join_s,
                "kind": stretch.kind or section.content_kind,
                "gain_db": stretch.gain_db,
                "fade_in_s": stretch.fade_in_s,
                "fade_out_s": stretch.fade_out_s,
                "spans": [
                    {
                        "recording": piece.span.recording,
                        "start": piece.span.start_sample,
                        "end": piece.span.end_sample,
                        "tone": piece.tone_samples is not None,
                        "gain_db": piece.gain_db,
                        "start_s": start_s + from_s,
                        "end_s": start_s + to_s,
                    }
                    for piece, (from_s, to_s) in zip(pieces, pairwise(starts_s), strict=True)
                ],
                "words": [
                    [round(start_s + word.start_s, 3), word.text]
                    for words in spoken.of(spoken.known(pieces))
                    for word in words
                ],
            }
        )
    return drawn


def _later(stretch: Stretch) -> float:
    """By how much a piece begins after the end of the one before, seconds."""
    return {CROSSFADE: -stretch.join_s, PAUSE: stretch.join_s}.get(stretch.join, 0.0)
