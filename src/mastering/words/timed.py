"""Words with their times, as open formats of text.

WebVTT (W3C Candidate Recommendation, from memory), SubRip as it is commonly written (common practice, no source), and
the transcript JSON of the podcast namespace (from memory): one row for each sentence that was read.
"""

import json
import re
from collections.abc import Callable, Iterable, Sequence
from html import escape, unescape
from itertools import pairwise
from typing import Any, NamedTuple

from mastering.editing.texts import UnreadableText
from mastering.said import Said

_MOST_CUES = 200_000
_TOLERANCE_S = 1.0
"""A time may lie this far beyond the end of a recording: it was rounded, or the end was cut off."""
_TIME = r"(?:(\d{1,4}):)?(\d{1,2}):(\d{2})[.,](\d{1,3})"
_TIMES = re.compile(rf"(?<!\d){_TIME}\s{{0,20}}-->\s{{0,20}}{_TIME}")
_TAG = re.compile(r"<[^<>]{0,200}>")
_STYLE = re.compile(r"</?(?:[bisu]|font)(?:\s[^<>]{0,200})?>", re.IGNORECASE)
"""What SubRip files carry of styles; any other bracket in them is text."""


class TimedText(NamedTuple):
    """What was said, and when, seconds."""

    start_s: float
    end_s: float
    text: str


def as_vtt(said: Sequence[TimedText]) -> str:
    cues = [f"{_clock(each.start_s, '.')} --> {_clock(each.end_s, '.')}\n{_escaped(each.text)}\n" for each in said]
    return "\n".join(["WEBVTT\n", *cues])


def as_srt(said: Sequence[TimedText]) -> str:
    cues = [
        f"{number}\n{_clock(each.start_s, ',')} --> {_clock(each.end_s, ',')}\n{_one_line(each.text)}\n"
        for number, each in enumerate(said, 1)
    ]
    return "\n".join(cues)


def as_transcript(said: Sequence[TimedText]) -> str:
    segments = [
        {"startTime": round(each.start_s, 3), "endTime": round(each.end_s, 3), "body": each.text} for each in said
    ]
    return json.dumps({"version": "1.0.0", "segments": segments}, ensure_ascii=False, indent=1) + "\n"


def as_rows(rows: Sequence[tuple[tuple[float, float] | None, str]]) -> str:
    """A row for each line: start, end and text, parted by tabs; "-" twice where there is no place."""
    told = []
    for span, text in rows:
        start, end = (f"{edge:.3f}" for edge in span) if span else ("-", "-")
        told.append(f"{start}\t{end}\t{_one_line(text)}\n")
    return "".join(told)


def in_cues(sentences: Iterable[Sequence[TimedText]], most: int | None = None) -> list[TimedText]:
    """Sentences, given word by word, as cues: each one, or so many characters at most, parted between words."""
    cues: list[TimedText] = []
    for words in sentences:
        cue: list[TimedText] = []
        for word in words:
            if cue and most is not None and sum(len(each.text) + 1 for each in cue) + len(word.text) > most:
                cues.append(_together(cue))
                cue = []
            cue.append(word)
        if cue:
            cues.append(_together(cue))
    return cues


def _together(words: Sequence[TimedText]) -> TimedText:
    return TimedText(words[0].start_s, words[-1].end_s, " ".join(word.text for word in words))


def read_timed(text: str, *, duration_s: float) -> list[TimedText]:
    """Read what another recogniser heard: WebVTT, SubRip, or the podcast transcript as JSON.

    Raises UnreadableText, with the place, for what is none of them, for times out of order, and for what lies beyond
    the end of the recording. Nothing is read by halves.
    """
    found = _read_json(text) if text.lstrip().startswith(("{", "[")) else _read_cues(text)
    if not found:
        raise UnreadableText(Said("there-no-words-times-file"))
    if len(found) > _MOST_CUES:
        raise UnreadableText(Said("file-more-than-cues-more", most_cues=_MOST_CUES))
    for number, cue in enumerate(found, 1):
        if not 0 <= cue.start_s <= cue.end_s:
            raise UnreadableText(Said("cue-ends-before-begins", number=number))
        if cue.end_s > duration_s + _TOLERANCE_S:
            raise UnreadableText(Said("cue-lies-beyond-end-recording", number=number))
    for number, (one, after) in enumerate(pairwise(found), 2):
        if after.start_s < one.start_s:
            raise UnreadableText(Said("cue-begins-before-one-above", number=number))
    return [cue for cue in found if any(map(str.isalnum, cue.text))]


def _read_cues(text: str) -> list[TimedText]:
    found: list[TimedText] = []
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    is_vtt = lines[0].startswith("WEBVTT")
    at = 0
    while at < len(lines):
        times = _TIMES.search(lines[at])
        at += 1
        if times is None:
            continue
        body = []
        while at < len(lines) and lines[at].strip():
            body.append(lines[at])
            at += 1
        start, end = times.groups()[:4], times.groups()[4:]
        told = " ".join(body)
        said = " ".join((unescape(_TAG.sub("", told)) if is_vtt else _STYLE.sub("", told)).split())
        if said:
            found.append(TimedText(_seconds(*start), _seconds(*end), said))
    return found


def _seconds(hours: str | None, minutes: str, seconds: str, fraction: str) -> float:
    return int(hours or 0) * 3600 + int(minutes) * 60 + int(seconds) + float(f"0.{fraction}")


def _read_json(text: str) -> list[TimedText]:
    try:
        told: Any = json.loads(text)
        rows = told["segments"] if isinstance(told, dict) else told
        cues = [
            TimedText(float(row["startTime"]), float(row["endTime"]), " ".join(str(row["body"]).split()))
            for row in rows
        ]
    except (ValueError, TypeError, KeyError, RecursionError) as error:
        raise UnreadableText(Said("json-no-transcript-wants-segments")) from error
    return [cue for cue in cues if cue.text]


WRITERS: dict[str, Callable[[Sequence[TimedText]], str]] = {"vtt": as_vtt, "srt": as_srt, "json": as_transcript}


def _clock(seconds: float, sign: str) -> str:
    total_ms = round(seconds * 1000)
    minutes, ms = divmod(total_ms, 60_000)
    return f"{minutes // 60:02}:{minutes % 60:02}:{ms // 1000:02}{sign}{ms % 1000:03}"


def _one_line(text: str) -> str:
    return " ".join(text.split())


def _escaped(text: str) -> str:
    return escape(_one_line(text), quote=False)
