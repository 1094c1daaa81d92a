"""Words with their times, as open formats of text.

WebVTT (W3C Candidate Recommendation, from memory), SubRip as it is commonly written (common practice, no source), and
the transcript JSON of the podcast namespace (from memory): one row for each sentence that was read.
"""

import json
from collections.abc import Callable, Sequence
from html import escape
from typing import NamedTuple


class Said(NamedTuple):
    """What was said, and when, seconds."""

    start_s: float
    end_s: float
    text: str


def as_vtt(said: Sequence[Said]) -> str:
    cues = [f"{_clock(each.start_s, '.')} --> {_clock(each.end_s, '.')}\n{_escaped(each.text)}\n" for each in said]
    return "\n".join(["WEBVTT\n", *cues])


def as_srt(said: Sequence[Said]) -> str:
    cues = [
        f"{number}\n{_clock(each.start_s, ',')} --> {_clock(each.end_s, ',')}\n{_one_line(each.text)}\n"
        for number, each in enumerate(said, 1)
    ]
    return "\n".join(cues)


def as_transcript(said: Sequence[Said]) -> str:
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


WRITERS: dict[str, Callable[[Sequence[Said]], str]] = {"vtt": as_vtt, "srt": as_srt, "json": as_transcript}


def _clock(seconds: float, sign: str) -> str:
    total_ms = round(seconds * 1000)
    minutes, ms = divmod(total_ms, 60_000)
    return f"{minutes // 60:02}:{minutes % 60:02}:{ms // 1000:02}{sign}{ms % 1000:03}"


def _one_line(text: str) -> str:
    return " ".join(text.split())


def _escaped(text: str) -> str:
    return escape(_one_line(text), quote=False)
