"""A script spoken by eSpeak NG: how each line sounds, and when each of its words and sounds begins.

The library keeps one state for a whole process and reads whatever text it is given, so it runs in a process of its own.
Run as a program, this module is that process: the job comes as JSON by standard input; for each line a line of JSON and
the samples it announces go to standard output.
"""

import ctypes
import json
import re
import subprocess
import sys
import threading
import unicodedata
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import IO, Any, BinaryIO

import espeakng_loader
import numpy as np
import soxr

from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.said import Said

RATE_HZ = 8000
_UNSPACED = "\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3040-\u30ff\u3400-\u4dbf\u4e00-\u9fff\uf900-\ufaff"
"""Thai, Lao, Burmese, Khmer, kana and Chinese characters: written without spaces between words."""
_WORD = re.compile(rf"[{_UNSPACED}][^\w\s]*|[^\s{_UNSPACED}]+")
_USUAL_RANK = 5
"""How well a voice speaks a language where it does not say; the lower, the better (eSpeak NG, docs/voices.md)."""
_USUAL = {"en": "en-us"}
"""Where no region is said, and eSpeak NG would take one that fewer readers are from."""


class CannotSpeak(MasteringError):
    """The script is in a language that eSpeak NG does not speak, or it failed at it."""


@dataclass(frozen=True)
class SpokenLine:
    """One line as it was spoken.

    `samples` are mono, int16, shape (n,), at RATE_HZ. `words` and `sounds` tell in order at which sample each begins:
    a word by its number among `words_of` the line, a sound by eSpeak NG's name for it, without stress.
    """

    samples: np.ndarray
    words: tuple[tuple[int, int], ...]
    sounds: tuple[tuple[int, str], ...]


def words_of(line: str) -> list[tuple[int, int]]:
    """Where each word of a line begins and ends, in characters; what stands between spaces is a word."""
    return [found.span() for found in _WORD.finditer(line) if any(map(str.isalnum, found[0]))]


@cache
def languages() -> dict[str, str]:
    """The languages eSpeak NG speaks: BCP 47 tags in lower case with their English names, sorted by name."""
    return dict(sorted(((tag, name) for tag, (_, name) in _voices().items()), key=lambda each: each[::-1]))


@cache
def _voices() -> dict[str, tuple[str, str]]:
    """For each tag the voice that speaks it best, by its place among the library's data, and its English name."""
    found: dict[str, tuple[int, str, str]] = {}
    top = _data() / "lang"
    for path in sorted(top.rglob("*")):
        if path.is_file():
            told = path.read_text("utf-8", "replace")
            name = re.search(r"^name\s+(.+?)\s*$", told, re.MULTILINE)
            for tag, rank in re.findall(r"^language\s+(\S+)(?:[ \t]+(\d+))?", told, re.MULTILINE):
                place = path.relative_to(top).as_posix()
                voice = int(rank or _USUAL_RANK), place, name[1].replace("_", " ") if name else tag
                found[tag.lower()] = min(voice, found.get(tag.lower(), voice))
    return {tag: (place, name) for tag, (_, place, name) in found.items()}


def voice_for(language: str) -> str:
    """The voice for a language: its own, or that of the language without its region. Raises CannotSpeak."""
    tag = language.strip().lower().replace("_", "-")
    tag = _USUAL.get(tag, tag)
    while tag:
        if tag in languages():
            return tag
        if regional := sorted(other for other in languages() if other.startswith(f"{tag}-")):
            return regional[0]
        tag = tag.rpartition("-")[0]
    raise CannotSpeak(Said("words-text-cannot-found-language", language=language))


def speak(lines: Sequence[str], language: str) -> Iterator[SpokenLine]:
    """Speak lines one after the other; a line without a word in it is silent.

    Raises CannotSpeak.
    """
    voice, _ = _voices()[voice_for(language)]
    job = json.dumps({"voice": voice, "lines": [_plain(line) for line in lines]}).encode()
    command = [sys.executable, "-m", "mastering.words.spoken"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as speaker:
        # The speaker reads all of its job before it says anything, unless it fails before.
        given = threading.Thread(target=_give, args=(certain(speaker.stdin), job), daemon=True)
        given.start()
        try:
            for line in lines:
                told = certain(speaker.stdout).readline()
                if not told.endswith(b"\n"):
                    raise CannotSpeak(Said("text-could-not-spoken-leave", line=line[:60]))
                yield _read(line, json.loads(told), certain(speaker.stdout))
        finally:
            speaker.kill()
            given.join()


def _give(stdin: IO[bytes], job: bytes) -> None:
    with suppress(BrokenPipeError):
        stdin.write(job)
        stdin.close()


def _plain(line: str) -> str:
    """The line without what is no text, in place: each character stays where it is."""
    return "".join(
        char if char.isprintable() and unicodedata.category(char) not in ("Co", "Cs") else " " for char in line
    )


def _read(line: str, told: dict[str, Any], stdout: IO[bytes]) -> SpokenLine:
    samples = np.frombuffer(stdout.read(2 * told["samples"]), np.int16)
    starts = np.array([start for start, _ in words_of(line)])
    numbers = np.maximum(0, np.searchsorted(starts, [at for _, at in told["words"]], side="right") - 1)
    words = [(ms, int(number)) for (ms, _), number in zip(told["words"], numbers, strict=True)] if len(starts) else []
    return SpokenLine(
        samples,
        tuple((ms * RATE_HZ // 1000, number) for ms, number in words),
        tuple((ms * RATE_HZ // 1000, sound) for ms, sound in told["sounds"]),
    )


def _data() -> Path:
    return Path(espeakng_loader.get_data_path())


class _Id(ctypes.Union):
    _fields_ = [("number", ctypes.c_int), ("name", ctypes.c_char_p), ("string", ctypes.c_char * 8)]


class _Event(ctypes.Structure):
    """`espeak_EVENT` of eSpeak NG 1.52, speak_lib.h."""

    _fields_ = [
        ("type", ctypes.c_int),
        ("unique_identifier", ctypes.c_uint),
        ("text_position", ctypes.c_int),
        ("length", ctypes.c_int),
        ("audio_position", ctypes.c_int),
        ("sample", ctypes.c_int),
        ("user_data", ctypes.c_void_p),
        ("id", _Id),
    ]


_ENDED, _WORD_BEGINS, _SOUND_BEGINS = 0, 1, 7
_RETRIEVAL, _SOUNDS_TOLD, _UTF_8 = 2, 0x0001, 1
_HEARD = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.POINTER(ctypes.c_short), ctypes.c_int, ctypes.POINTER(_Event))


class _Speaker:
    """The library, once for a process."""

    def __init__(self, voice: str):
        self._library = ctypes.CDLL(espeakng_loader.get_library_path())
        self._rate_hz = self._library.espeak_Initialize(_RETRIEVAL, 0, str(_data()).encode(), _SOUNDS_TOLD)
        self._heard = _HEARD(self._hear)
        self._library.espeak_SetSynthCallback(self._heard)
        if self._library.espeak_SetVoiceByName(voice.encode()):
            raise CannotSpeak(voice)
        self._samples: list[np.ndarray] = []
        self._words: list[tuple[int, int]] = []
        self._sounds: list[tuple[int, str]] = []

    def say(self, line: str) -> tuple[np.ndarray, dict[str, Any]]:
        self._samples, self._words, self._sounds = [np.zeros(0, np.int16)], [], []
        text = line.encode()
        self._library.espeak_Synth(text, len(text) + 1, 0, 0, 0, _UTF_8, None, None)
        self._library.espeak_Synchronize()
        spoken = soxr.resample(np.concatenate(self._samples), self._rate_hz, RATE_HZ, quality="MQ")
        return spoken, {"samples": len(spoken), "words": self._words, "sounds": self._sounds}

    def _hear(self, samples: Any, count: int, events: Any) -> int:
        if samples and count > 0:
            self._samples.append(np.ctypeslib.as_array(samples, (count,)).copy())
        at = 0
        while events[at].type != _ENDED:
            event = events[at]
            if event.type == _WORD_BEGINS:
                self._words.append((event.audio_position, event.text_position - 1))
            elif event.type == _SOUND_BEGINS:
                sound = event.id.string.decode("utf-8", "replace").strip("',")
                self._sounds.append((event.audio_position, sound))
            at += 1
        return 0


def _serve(stdin: BinaryIO, stdout: BinaryIO) -> None:
    job = json.load(stdin)
    speaker = _Speaker(job["voice"])
    for line in job["lines"]:
        samples, told = speaker.say(line)
        stdout.write(json.dumps(told).encode() + b"\n" + samples.astype(np.int16).tobytes())
        stdout.flush()


if __name__ == "__main__":
    _serve(sys.stdin.buffer, sys.stdout.buffer)
