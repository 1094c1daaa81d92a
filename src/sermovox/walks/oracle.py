"""What a production asks for, worked out from the bare rows of the database, and what its files hold.

It judges the application, so it shares no code with what makes the files: intervals and samples are numpy's, files are
read by soundfile and mutagen, and hashes are hashlib's.
"""

import hashlib
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

import mutagen
import numpy as np
import soundfile

from mastering.certain import certain
from sermovox.walks.markers import WORD_S, place_of, spoken, words_in

FLAC, MP3, BOOK = "walk-flac", "walk-mp3", "walk-book"
GAP_S = 0.2
HEAD = """format = 2
key = "{key}"
title = "{key}"
summary = "For walks."
"""
RULE = '[[rules]]\nname = "{}"\nexactly = {}\nsource = "a walk"\n'


@dataclass(frozen=True)
class Take:
    """A recording of marker words: its file's name, which words, and how it was recorded."""

    name: str
    words: tuple[int, ...]
    rate_hz: int = 44100
    channels: int = 1

    @property
    def samples(self) -> np.ndarray:
        return _samples(self)

    def place(self, at: int) -> tuple[int, int]:
        """Where its word at a place is, samples."""
        return place_of(at, rate_hz=self.rate_hz, gap_s=GAP_S)

    def before(self, at: int) -> int:
        """The middle of the pause before its word at a place."""
        return self.place(at)[0] - round(GAP_S / 2 * self.rate_hz)

    def words_between(self, start: int, end: int) -> list[int]:
        """The words that lie wholly between two samples."""
        inside = [self.place(at) for at in range(len(self.words))]
        return [w for w, (a, b) in zip(self.words, inside, strict=True) if start <= a + 40 and b - 40 <= end]


@lru_cache
def _samples(take: Take) -> np.ndarray:
    sound = spoken(*take.words, rate_hz=take.rate_hz, channels=take.channels, gap_s=GAP_S, seed=take.words[0] + 1)
    if take.channels == 2:
        sound = sound * np.array([1.0, 0.6], np.float32)
    return np.round(sound * 32767).astype(np.int16)


TAKES = (
    Take("anna.wav", (0, 1, 2)),
    Take("bert.wav", (3, 4, 5)),
    Take("cilla.wav", (6, 7), rate_hz=22050),
    Take("dora.wav", (8, 9, 10), channels=2),
    Take("emil.wav", (11,)),
)


class Heard(NamedTuple):
    """A stretch of a take as it sounds."""

    take: Take
    start: int
    end: int
    gain_db: float = 0.0
    fade_in: tuple[int, int] = (0, 0)
    fade_out: tuple[int, int] = (0, 0)

    @property
    def words(self) -> list[int]:
        return self.take.words_between(self.start, self.end)

    def samples(self, channels: int) -> np.ndarray:
        sound = np.repeat(self.take.samples[self.start : self.end], channels // self.take.channels, axis=1)
        gains = np.full((len(sound), 1), 10 ** (self.gain_db / 20))
        # A fade is a quarter of a sine over what sounds of a whole stretch: its length, and how far into it this is.
        for (length, begun), way in ((self.fade_in, np.sin), (self.fade_out, np.cos)):
            if length:
                at = np.clip((np.arange(len(sound)) + begun + 0.5) / length, 0, 1)
                gains[:, 0] *= way(np.pi / 2 * at)
        return sound / 32768 * gains


@dataclass
class Expected:
    """What one file is to hold: its words, how long it sounds, what it is called and what it says."""

    words: list[int] | None
    length_s: float
    exact: bool
    name: str
    tags: dict[str, str]
    asked: tuple
    chapters: list[tuple[str, float]] = field(default_factory=list)
    segments: list[Heard] = field(default_factory=list)


def sheet(key: str, depth: str = "16-bit integer") -> str:
    """The rules of an outlet for walks, as TOML."""
    rules = {"container": '"flac"' if key == FLAC else '"mp3"', "sample_rate_hz": "44100"}
    rules |= {"tag_title": '"{title}"', "tag_album": '"{production}"', "tag_artist": '"{author}"'}
    if key == FLAC:
        rules |= {"sample_format": f'"{depth}"', "channels": '"as recorded"', "tag_track": '"{place}/{total}"'}
    else:
        rules |= {"channels": '"mono"', "bit_rate_kbps": "64"}
    if key == BOOK:
        rules |= {"files": '"one of all sections"', "names": '"{production}"', "chapters": '"from sections"'}
    else:
        rules |= {"names": '"{place|pad:2}-{title}"'}
    return HEAD.format(key=key) + "".join(RULE.format(name, value) for name, value in rules.items())


class Rows:
    """A production as its rows are: sections in order, what is marked on its pages, its facts."""

    def __init__(self, production):
        from sermovox.cutting.models import Page
        from sermovox.productions.models import Naming, Piece, Section
        from sermovox.recordings.models import Recording

        self.facts = type(production).objects.filter(pk=production.pk).values().get()
        wanted = Section.with_removed.filter(production=production, removed=False)
        self.sections: list[Any] = list(wanted.order_by("position", "pk").values())
        for section in self.sections:
            section["pieces"] = list(Piece.objects.filter(section=section["id"]).order_by("place").values())
        recordings = Recording.with_deleted.filter(production=production)
        self.recordings = {row["pk"]: row for row in recordings.values("pk", "name", "state")}
        self.pages = {row["recording_id"]: row for row in Page.objects.filter(production=production).values()}
        self.namings: dict[str, Any] = {
            row["outlet_key"]: row for row in Naming.objects.filter(production=production).values()
        }

    def take(self, key) -> Take | None:
        """What a recording holds; None where it is not there, or not measured yet."""
        row = self.recordings.get(key)
        if row is None or row["state"] != "ready":
            return None
        return next(take for take in TAKES if take.name == row["name"])

    def stretches(self, section: dict) -> list[dict]:
        return [
            piece if piece["end_sample"] else piece | {"end_sample": len(take.samples) if take else 1}
            for piece in section["pieces"]
            for take in [self.take(piece["recording_id"])]
        ]

    def segments(self, section: dict) -> list[Heard] | None:
        """What sounds in a section, piece by piece: nothing where all is struck out, None where it cannot sound."""
        found: list[Heard] = []
        for stretch in self.stretches(section):
            take = self.take(stretch["recording_id"])
            if take is None:
                return None
            pieces = self._marked(take, stretch["recording_id"], stretch["start_sample"], stretch["end_sample"])
            if pieces is None:
                return None
            found += _shaped(pieces, stretch)
        return found if self.stretches(section) else None

    def _marked(self, take: Take, key: int, start: int, end: int) -> list[Heard] | None:
        marks = self.pages[key]["marks"] if key in self.pages else []
        kept, put_in = np.ones(len(take.samples) + 1, bool), []
        kept[-1] = False
        struck = np.zeros(len(take.samples) + 1, bool)
        for mark in marks:
            if mark["kind"] == "strike":
                struck[mark["start_sample"] : mark["end_sample"]] = True
        for mark in marks:
            if mark["kind"] == "pickup":
                a, b = mark["start_sample"], mark["end_sample"]
                kept[a:b] = False
                left = np.flatnonzero(~struck[a:b])
                if len(left) and start <= a + left[0] < end:
                    other = self.take(int(mark["recording"]))
                    if other is None:
                        return None
                    put_in.append(
                        (
                            a + int(left[0]),
                            Heard(other, mark.get("from_sample", 0), mark["to_sample"], mark.get("value_db", 0.0)),
                        )
                    )
        kept &= ~struck
        kept[:start], kept[end:] = False, False
        edges = np.flatnonzero(np.diff(np.concatenate([[False], kept]).astype(np.int8)))
        edges = edges if len(edges) % 2 == 0 else np.append(edges, end)
        runs = [(int(a), Heard(take, int(a), int(b))) for a, b in zip(edges[::2], edges[1::2], strict=True)]
        return [piece for _, piece in sorted([*runs, *put_in], key=lambda each: each[0])]

    def crossed_s(self, section: dict) -> float:
        """How much crossfades take off a section."""
        return sum(stretch["join_s"] for stretch in self.stretches(section)[1:] if stretch["join"] == "crossfade")

    def lanes(self, section: dict) -> list[Take | None]:
        """The voices beside what a section is made of, the first recording that has some."""
        for stretch in self.stretches(section):
            page = self.pages.get(stretch["recording_id"])
            facts = page["facts"] if page else {}
            if facts.get("lanes") or facts.get("sides"):
                return [self.take(lane["recording"]) for lane in facts.get("lanes", [])] or [None]
        return []

    def expected(self, outlet_key: str, depth: str) -> dict[int | None, Expected]:
        """What the files of an outlet are to be, by section; None for the one of all. What cannot be told is left out.

        Outlets are told by their keys: "walk-book" makes one file of all, "walk-flac" tells tracks.
        """
        alone = {section["id"]: self.segments(section) for section in self.sections}
        facts = {"album": self.facts["title"], "artist": self.facts["author"]}
        total = len(self.sections)
        if outlet_key == BOOK:
            # What has no recording that can be used as a whole is left out of the book, and named as left out.
            ready = {key for key in self.recordings if self.take(key)}
            sounding = [
                s for s in self.sections if any(p["end_sample"] or p["recording_id"] in ready for p in s["pieces"])
            ]
            if any(alone[s["id"]] is None or self.lanes(s) for s in sounding) or not any(alone.values()):
                return {}
            at_s, told = 0.0, []
            for section in sounding:
                if alone[section["id"]]:
                    told.append((section["title"], at_s))
                at_s += _length_s(certain(alone[section["id"]])) - self.crossed_s(section)
            agreed = [sorted(s["treatment"].items(), key=repr) for s in sounding]
            common = [item for item in agreed[0] if all(item in other for other in agreed)]
            return {
                None: self._one(
                    [piece for s in sounding for piece in certain(alone[s["id"]])],
                    sum(self.crossed_s(s) for s in sounding),
                    self._name(outlet_key, None, 1),
                    facts | {"title": self.facts["title"]},
                    ("", common, [s["id"] for s in sounding]),
                    told,
                )
            }
        found: dict[int | None, Expected] = {}
        for place, section in enumerate(self.sections, 1):
            if not alone[section["id"]] or self.lanes(section):
                continue
            own = facts | {"title": section["title"]} | ({"track": f"{place}/{total}"} if outlet_key == FLAC else {})
            asked = (depth if outlet_key == FLAC else "", section["treatment"], section["content_kind"])
            name = self._name(outlet_key, section, place)
            found[section["id"]] = self._one(alone[section["id"]], self.crossed_s(section), name, own, asked, [])
        return found

    @staticmethod
    def _one(segments, crossed_s, name, tags, asked, chapters) -> Expected:
        words = [word for each in segments for word in each.words]
        plain = not crossed_s and {each.take.rate_hz for each in segments} == {44100}
        return Expected(words, _length_s(segments) - crossed_s, plain, name, tags, asked, chapters, segments)

    def _name(self, outlet_key: str, section: dict | None, place: int) -> str:
        """A name without its ending."""
        naming = self.namings.get(outlet_key, {})
        pattern = naming.get("pattern", "")
        if section is None:
            return naming["whole_name"] if pattern == "{exact}" and naming["whole_name"] else self.facts["title"]
        every = bool(self.sections) and all(each["exact_name"] for each in self.sections)
        if pattern == "{exact}" or not pattern and every:
            return section["exact_name"].rpartition(".")[0] or section["exact_name"]
        if pattern == "{title}-{place}":
            return f"{section['title']}-{place}"
        return f"{place:02}-{section['title']}"


def _shaped(pieces: list[Heard], stretch: dict) -> list[Heard]:
    """What sounds of a stretch with the gain and the fades it has of its own."""
    shaped, at_s, length_s = [], 0.0, _length_s(pieces)
    for each in pieces:
        rate_hz, own_s = each.take.rate_hz, (each.end - each.start) / each.take.rate_hz
        fade_in = round(stretch["fade_in_s"] * rate_hz), round(at_s * rate_hz)
        out = round(stretch["fade_out_s"] * rate_hz)
        fade_out = out, round((at_s - length_s) * rate_hz) + out
        shaped.append(each._replace(gain_db=each.gain_db + stretch["gain_db"], fade_in=fade_in, fade_out=fade_out))
        at_s += own_s
    return shaped


def _length_s(segments: list[Heard]) -> float:
    return sum((each.end - each.start) / each.take.rate_hz for each in segments)


@dataclass(frozen=True)
class Found:
    """What is in a file on the disk."""

    sha256: str
    words: tuple[int, ...]
    samples: np.ndarray
    rate_hz: int
    subtype: str
    tags: dict[str, str]
    chapters: tuple[tuple[str, float], ...]


@lru_cache(maxsize=512)
def _found(path: Path, modified_ns: int, size_bytes: int) -> Found:
    samples, rate_hz = soundfile.read(path, dtype="float32", always_2d=True)
    tags: Any = mutagen.File(path).tags or {}
    names = {"TIT2": "title", "TALB": "album", "TPE1": "artist", "TRCK": "track"}
    if path.suffix == ".mp3":
        said = {name: str(tags[key]) for key, name in names.items() if key in tags}
        frames = sorted(tags.getall("CHAP"), key=lambda frame: frame.start_time) if tags else []
        chapters = tuple((str(frame.sub_frames["TIT2"]), frame.start_time / 1000) for frame in frames)
    else:
        said = {name: tags[name][0] for name in ("title", "album", "artist") if name in tags}
        number, of = tags.get("tracknumber", [""])[0], tags.get("tracktotal", [""])[0]
        said |= {"track": f"{number}/{of}" if of and "/" not in number else number} if number else {}
        chapters = ()
    return Found(
        hashlib.sha256(path.read_bytes()).hexdigest(),
        tuple(words_in(samples, rate_hz)),
        samples,
        rate_hz,
        soundfile.info(path).subtype,
        said,
        chapters,
    )


def found_in(path: Path) -> Found:
    """What is in a file; read once for as long as it stays as it is."""
    about = path.stat()
    return _found(path, about.st_mtime_ns, about.st_size)


def differences(expected: Expected, path: Path) -> list[str]:
    """What of a file is not as it is expected, in words."""
    found, told = found_in(path), []
    if list(found.words) != expected.words:
        told.append(f"words {list(found.words)}, not {expected.words}")
    length_s = len(found.samples) / found.rate_hz
    lossless = path.suffix == ".flac"
    within_s = (0.6 / 44100 if expected.exact else 12 / 44100) if lossless else 0.06
    if abs(length_s - expected.length_s) > within_s:
        told.append(f"length {length_s:.5f} s, not {expected.length_s:.5f} s")
    elif lossless and expected.exact and expected.segments:
        width = found.samples.shape[1]
        wanted = np.concatenate([each.samples(width) for each in expected.segments])
        if wanted.shape != found.samples.shape or np.abs(wanted - found.samples).max() > 1.5 / 32768:
            told.append("other samples")
    wanted_tags = {name: text for name, text in expected.tags.items() if text}
    if found.tags != wanted_tags:
        told.append(f"tags {found.tags}, not {wanted_tags}")
    if lossless and found.subtype != {"16-bit integer": "PCM_16", "24-bit integer": "PCM_24"}[expected.asked[0]]:
        told.append(f"depth {found.subtype}")
    if expected.chapters:
        titles = [title for title, _ in found.chapters]
        if titles != [title for title, _ in expected.chapters]:
            told.append(f"chapters {titles}, not {[title for title, _ in expected.chapters]}")
        elif any(abs(a - b) > 0.03 for (_, a), (_, b) in zip(found.chapters, expected.chapters, strict=True)):
            told.append(f"chapters at {found.chapters}, not {expected.chapters}")
    return told


assert WORD_S > 4 * 0.05, "a word has to be told from half of one"
