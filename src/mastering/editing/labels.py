"""Marks in and out as open formats of text: labels with tabs, CUE sheets, CSV and chapter JSON.

Times come as seconds or clock times and go out as seconds. A file is read as a whole or not at all.
"""

import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from mastering.editing.tables import read_table, write_table
from mastering.editing.texts import UnreadableText
from mastering.said import Said, together

MOST_LABELS = 5000
_TOLERANCE_S = 0.05
"""A time may lie this far beyond the end: it was rounded."""
_CLOCK = re.compile(r"(?:(\d{1,3}):)?(\d{1,3}):(\d{1,2}(?:\.\d+)?)")
_SECONDS = re.compile(r"-?\d+(?:\.\d+)?")
_CUE_FRAMES = 75
"""Frames of a CUE sheet's second: those of a compact disc (IEC 60908)."""
CUE_ROUNDS = Said("times-rounded-1-75-s")
_CUE_INDEX = re.compile(r"INDEX\s+(\d{1,6})\s+(\d{1,6}):(\d{2}):(\d{2})", re.IGNORECASE)
_CUE_TITLE = re.compile(r'TITLE\s+(?:"(.*)"|(.*))', re.IGNORECASE)


@dataclass(frozen=True)
class Label:
    """A named place or stretch of a recording, in seconds; `end_s` is `start_s` for a place."""

    start_s: float
    end_s: float
    name: str


def read_labels(text: str, kind: str, *, duration_s: float) -> list[Label]:
    """Read marks from text.

    Parameters
    ----------
    kind
        One of FORMATS: "txt", "cue", "csv" or "json".
    duration_s
        How long the recording is; nothing may lie beyond.

    Raises
    ------
    UnreadableText
        With the line and what is wrong there. Nothing is read by halves.
    """
    if kind not in FORMATS:
        raise UnreadableText(Said("marks-read-from-text-tabs"))
    labels = FORMATS[kind].read(text)
    if not labels:
        raise UnreadableText(Said("there-no-marks-file", hint=FORMATS[kind].hint))
    return [label for _, label in checked(labels, duration_s=duration_s)]


def checked(
    labels: Sequence[tuple[int, Label]], *, duration_s: float, what: str = Said("line-of-list")
) -> list[tuple[int, Label]]:
    """Labels with the number of their line, looked at as a whole. Raises UnreadableText."""
    before: Label | None = None
    for at, (line, label) in enumerate(labels, 1):
        where = together([what, str(line)])
        if at > MOST_LABELS:
            raise UnreadableText(Said("there-more-than-marks-here", where=where, most_labels=MOST_LABELS))
        if label.start_s < 0 or label.end_s < 0:
            raise UnreadableText(Said("time-before-start-recording-nothing", where=where))
        if label.end_s < label.start_s:
            raise UnreadableText(Said("ends-before-starts-nothing-brought", where=where))
        if before is not None and label.start_s < before.start_s:
            raise UnreadableText(Said("starts-before-one-above-put", where=where))
        if max(label.start_s, label.end_s) > duration_s + _TOLERANCE_S:
            raise UnreadableText(Said("lies-beyond-end-recording-which", where=where, duration_s=duration_s))
        before = label
    return list(labels)


def stretches_between(labels: Sequence[Label], sample_rate_hz: int, length_samples: int) -> list[tuple[int, int]]:
    """The samples of each label; a place without a length runs to the next, the last to the end.

    >>> stretches_between([Label(0, 0, ""), Label(2, 3, ""), Label(4, 4, "")], 10, 55)
    [(0, 20), (20, 30), (40, 55)]
    """
    starts = [round(label.start_s * sample_rate_hz) for label in labels]
    ends = [min(length_samples, round(label.end_s * sample_rate_hz)) for label in labels]
    following = [*starts[1:], length_samples]
    return [(a, b if b > a else until) for a, b, until in zip(starts, ends, following, strict=True)]


def write_labels(labels: Sequence[Label], kind: str, *, file_name: str = "") -> str:
    """Write marks as text of one of FORMATS. A CUE sheet names the recording's file."""
    return FORMATS[kind].write(labels, file_name)


def seconds_of(text: str, where: str) -> float:
    """Read "83.25" or "1:23.25". Raises UnreadableText that begins with `where`."""
    text = text.strip()
    if _SECONDS.fullmatch(text):
        return float(text)
    if clock := _CLOCK.fullmatch(text):
        hours, minutes, seconds = clock.groups()
        return int(hours or 0) * 3600 + int(minutes) * 60 + float(seconds)
    if "," in text and _SECONDS.fullmatch(text.replace(",", ".")):
        raise UnreadableText(Said("comma-point-write", where=where, text=text, replace=text.replace(",", ".")))
    raise UnreadableText(Said("no-time-write-seconds-83", where=where, text=text[:40]))


def _read_txt(text: str) -> list[tuple[int, Label]]:
    labels = []
    for line, row in enumerate(text.split("\n"), 1):
        if not row.strip():
            continue
        cells = row.split("\t")
        if len(cells) < 2:
            raise UnreadableText(Said("line-no-tab-each-line", line=line))
        start, end = (seconds_of(cell, Said("line-label", line=line)) for cell in cells[:2])
        labels.append((line, Label(start, end, " ".join(cells[2:]).strip()[:200])))
    return labels


def _write_txt(labels: Sequence[Label], file_name: str) -> str:
    return "".join(f"{label.start_s:.6f}\t{label.end_s:.6f}\t{_one_line(label.name)}\n" for label in labels)


def _read_csv(text: str) -> list[tuple[int, Label]]:
    rows = list(enumerate(read_table(text), 1))
    if rows and not _looks_like_time(rows[0][1][0]):
        del rows[0]
    labels = []
    for line, cells in rows:
        if len(cells) < 2:
            raise UnreadableText(Said("line-one-cell-each-line", line=line))
        start = seconds_of(cells[0], Said("line-label", line=line))
        end = seconds_of(cells[1], Said("line-label", line=line)) if cells[1] else start
        labels.append((line, Label(start, end, " ".join(cells[2:]).strip()[:200])))
    return labels


def _write_csv(labels: Sequence[Label], file_name: str) -> str:
    rows = [(f"{label.start_s:.6f}", f"{label.end_s:.6f}", _one_line(label.name)) for label in labels]
    return write_table(("start", "end", "name"), rows)


def _read_cue(text: str) -> list[tuple[int, Label]]:
    labels: list[tuple[int, Label]] = []
    title, inside = "", False
    for line, row in enumerate(text.split("\n"), 1):
        row = row.strip()
        if row.upper().startswith("TRACK"):
            title, inside = "", True
        elif inside and (found := _CUE_TITLE.fullmatch(row)):
            title = (found.group(1) if found.group(1) is not None else found.group(2)).strip()[:200]
        elif row.upper().startswith("INDEX"):
            found = _CUE_INDEX.fullmatch(row)
            if not found or int(found.group(4)) >= _CUE_FRAMES or int(found.group(3)) >= 60:
                raise UnreadableText(Said("line-no-index-written-index", line=line, row=row[:40]))
            number, minutes, seconds, frames = map(int, found.groups())
            if number == 1:
                start_s = minutes * 60 + seconds + frames / _CUE_FRAMES
                labels.append((line, Label(start_s, start_s, title)))
    return labels


def _write_cue(labels: Sequence[Label], file_name: str) -> str:
    kind = (
        "MP3"
        if file_name.lower().endswith(".mp3")
        else "AIFF"
        if file_name.lower().endswith((".aif", ".aiff"))
        else "WAVE"
    )
    rows = [f"REM {CUE_ROUNDS}", f'FILE "{_one_line(file_name)}" {kind}']
    for number, label in enumerate(labels, 1):
        frames = round(label.start_s * _CUE_FRAMES)
        minutes, rest = divmod(frames, 60 * _CUE_FRAMES)
        name = _one_line(label.name).replace('"', "'")
        rows += [
            f"  TRACK {number:02} AUDIO",
            f'    TITLE "{name}"',
            f"    INDEX 01 {minutes:02}:{rest // _CUE_FRAMES:02}:{rest % _CUE_FRAMES:02}",
        ]
    return "\n".join(rows) + "\n"


def _read_json(text: str) -> list[tuple[int, Label]]:
    try:
        chapters = json.loads(text)["chapters"]
        if not isinstance(chapters, list):
            raise TypeError
    except json.JSONDecodeError as error:
        raise UnreadableText(Said("line-no-json", lineno=error.lineno, msg=error.msg)) from error
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise UnreadableText(Said("line-1-list-chapters-wanted")) from error
    labels = []
    for number, chapter in enumerate(chapters, 1):
        times = [chapter.get(name) for name in ("startTime", "endTime")] if isinstance(chapter, dict) else [None, None]
        start, end = times
        numbers = [time for time in times if time is not None]
        if start is None or any(isinstance(time, bool) or not isinstance(time, int | float) for time in numbers):
            raise UnreadableText(Said("chapter-no-starttime-seconds-nothing", number=number))
        if not all(abs(time) < 1e9 for time in numbers):
            raise UnreadableText(Said("chapter-time-cannot-nothing-brought", number=number))
        name = str(chapter.get("title", ""))[:200]
        labels.append((number, Label(float(start), float(start if end is None else end), name)))
    return labels


def _write_json(labels: Sequence[Label], file_name: str) -> str:
    chapters = [
        {"startTime": round(label.start_s, 3), "title": label.name}
        | ({"endTime": round(label.end_s, 3)} if label.end_s > label.start_s else {})
        for label in labels
    ]
    return json.dumps({"version": "1.2.0", "chapters": chapters}, ensure_ascii=False, indent=2) + "\n"


def _looks_like_time(cell: str) -> bool:
    return bool(re.match(r"[-+]?\d", cell))


def _one_line(text: str) -> str:
    return " ".join(text.split())


@dataclass(frozen=True)
class _Format:
    title: str
    hint: str
    read: Callable[[str], list[tuple[int, Label]]]
    write: Callable[[Sequence[Label], str], str]


FORMATS = {
    "txt": _Format(Said("text-tabs"), Said("each-line-holds-start-end"), _read_txt, _write_txt),
    "cue": _Format(Said("cue-sheet"), Said("each-track-wants-index-01"), _read_cue, _write_cue),
    "csv": _Format("CSV", Said("each-line-holds-start-end-name"), _read_csv, _write_csv),
    "json": _Format(Said("chapter-json"), Said("each-chapter-starttime-title"), _read_json, _write_json),
}
"""The formats by file ending. Chapter JSON is the open "JSON chapters" format, version 1.2, of podcasts."""
