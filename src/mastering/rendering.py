"""A programme made into sound: what is heard on the page and what the finished file is made of."""

from collections.abc import Collection, Generator, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from mastering.audio.convert import folded, resampled, to_channels
from mastering.audio.facts import FileFacts
from mastering.audio.placing import whole
from mastering.audio.reader import Reader
from mastering.certain import certain
from mastering.editing.pieces import BadCut, Piece, Span
from mastering.errors import UnreadableRecording
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.said import Said
from mastering.shaping.fades import crossfaded, fade_gains
from mastering.shaping.hush import hushed, noise_power, window_frames
from mastering.shaping.mends import ALIGNED_S, MENDS, fit_for
from mastering.shaping.roomtone import NEAR_S, Room

_MIX_FRAMES = 8192
_LARGEST_WAV_BYTES = (1 << 32) - 4096
"""A size in a WAV has 32 bits; RF64 has 64 (EBU Tech 3306)."""


@dataclass(frozen=True)
class Track:
    """A file that sounds for a recording: itself, or one voice of several recorded together.

    `offset_samples` is how much later than the first track it begins; it may be negative. `fold` is the way it is made
    mono where it is stereo; left as it is without one.
    """

    path: Path
    offset_samples: int = 0
    gain_db: float = 0.0
    fold: str = ""


Tracks = Mapping[str, Sequence[Track]]
"""The files of each recording a programme names, by that name; several sound together. All of one rate."""


@dataclass(frozen=True)
class Programme:
    """What makes up one section, and where the files of its recordings are."""

    pieces: Sequence[Piece]
    tracks: Tracks

    @property
    def untouched(self) -> bool:
        """Whether it is made of whole spans with butt joins alone, so that no sample is changed."""
        single = all(len(self.tracks[p.span.recording]) == 1 for p in self.pieces if p.span.recording in self.tracks)
        return single and all(piece.untouched and not piece.overlap_samples for piece in self.pieces)

    def folded(self, folds: Mapping[Path, str]) -> "Programme":
        """The same with its stereo recordings made mono, each in its own way, by their paths."""
        tracks = {
            name: [replace(track, fold=track.fold or folds.get(track.path, "")) for track in own]
            for name, own in self.tracks.items()
        }
        return Programme(self.pieces, tracks)

    @property
    def parted(self) -> frozenset[Path]:
        """The recordings whose two sides are voices of their own, each a track."""
        tracks = [track for own in self.tracks.values() for track in own]
        return frozenset(track.path for track in tracks if track.fold)

    def mended(self, names: Collection[str], content_kind: str) -> "Programme":
        """The same with more mended of all its pieces, as far as it is fit for what they hold."""
        pieces = [
            replace(piece, mends=tuple(dict.fromkeys((*piece.mends, *fit_for(names, piece.kind or content_kind)))))
            for piece in self.pieces
        ]
        return Programme(pieces, self.tracks)

    def opened(self) -> "ProgrammeReader":
        """Start reading. Raises as `ProgrammeReader` does."""
        return ProgrammeReader(self.pieces, self.tracks)


@dataclass(frozen=True)
class Folded:
    """A recording made mono in some way."""

    path: Path
    way: str

    def opened(self) -> "FoldedReader":
        """Start reading. Raises as `Reader` does."""
        return FoldedReader(self.path, self.way)


class FoldedReader:
    """Read a recording in mono; it offers what `Reader` does, and its facts are those of the recording."""

    channels = 1
    channel_names: tuple[str, ...] = CHANNEL_NAMES[1]

    def __init__(self, path: Path, way: str):
        self._reader, self._way = Reader(path), way
        self.sample_rate_hz = self._reader.sample_rate_hz
        self.facts, self.format_facts = self._reader.facts, self._reader.format_facts

    def __enter__(self) -> "FoldedReader":
        return self

    def __exit__(self, *exc: object) -> None:
        self._reader.__exit__(*exc)

    @property
    def promised_s(self) -> float | None:
        return self._reader.promised_s

    @property
    def frames(self) -> int:
        return self._reader.frames

    def blocks(self) -> Iterator[np.ndarray]:
        return folded(self._reader.blocks(), self._way)

    def stretch(self, start_frame: int, end_frame: int) -> Iterator[np.ndarray]:
        return folded(self._reader.stretch(start_frame, end_frame), self._way)


def save_wav(programme: Programme, target: Path) -> int:
    """Write a programme as WAV of its own rate and depth, not levelled. Returns its length in samples.

    Whole spans of PCM keep their samples bit for bit; what was changed has 24 bits at least, and float stays float.

    Raises
    ------
    BadCut, UnreadableRecording, FileInTheWay
        Nothing is left behind in any of these cases.
    """
    with whole(target) as partial, programme.opened() as reader:
        facts = reader.facts()
        depth = facts.bit_depth or 24
        subtype = "PCM_16" if depth <= 16 and programme.untouched else "PCM_24" if depth <= 24 else "FLOAT"
        long = reader.length * reader.channels * 4 > _LARGEST_WAV_BYTES
        form = {"subtype": subtype, "format": "RF64" if long else "WAV"}
        with soundfile.SoundFile(partial, "w", reader.sample_rate_hz, reader.channels, **form) as file:
            for block in reader.blocks():
                file.write(block)
    return reader.frames


class ProgrammeReader:
    """Read a programme as if it were one file; it offers what `Reader` does.

    The rate is that of the first piece's recording; pieces of another rate are converted. With whole spans, butt
    joins and one rate, the samples are those of the recordings, untouched.

    Raises
    ------
    BadCut
        For a programme without pieces, or with a crossfade longer than what it joins.
    UnreadableRecording
        When a file is damaged or ends before a piece does.
    """

    def __init__(self, pieces: Sequence[Piece], tracks: Tracks):
        if not pieces:
            raise BadCut(Said("nothing-left-section-all-struck"))
        self._sources: dict[str, _Source] = {}
        try:
            for piece in pieces:
                name = piece.span.recording
                if name not in self._sources:
                    if name not in tracks:
                        raise BadCut(Said("recording-section-no-longer-there-bring"))
                    self._sources[name] = _Source(tracks[name])
        except BaseException:
            self._close()
            raise
        first = self._sources[pieces[0].span.recording]
        self.sample_rate_hz = first.sample_rate_hz
        self.channels = max(source.channels for source in self._sources.values())
        alike = all(source.channels == self.channels for source in self._sources.values())
        self.channel_names = first.channel_names if alike else CHANNEL_NAMES.get(self.channels, first.channel_names)
        self._first = first
        self._runs = _in_runs(
            pieces, {name: s.sample_rate_hz for name, s in self._sources.items()}, self.sample_rate_hz
        )
        self._check_overlaps()
        self.length = sum(run.length - run.overlap for run in self._runs)
        self.frames = 0
        self._noises: dict[tuple[Any, ...], np.ndarray] = {}
        self._rooms: dict[Span, Room] = {}

    def __enter__(self) -> "ProgrammeReader":
        return self

    def __exit__(self, *exc: object) -> None:
        self._close()

    def _close(self) -> None:
        for source in self._sources.values():
            source.close()

    @property
    def promised_s(self) -> float:
        return float(self.length / self.sample_rate_hz)

    def starts(self) -> list[int]:
        """The frame at which each piece begins."""
        found, position = [], 0
        for run in self._runs:
            position -= run.overlap
            passed = 0
            for piece in run.pieces:
                found.append(position + round(passed * self.sample_rate_hz / run.sample_rate_hz))
                passed += piece.samples
            position += run.length
        return found

    def blocks(self, start_frame: int = 0, end_frame: int | None = None) -> Iterator[np.ndarray]:
        """Yield float32 blocks of shape (frames, channels), of the whole or of a stretch of the programme."""
        end_frame = self.length if end_frame is None else min(end_frame, self.length)
        at = start_frame
        for block in self._from(start_frame):
            block = block[: end_frame - at]
            if not len(block):
                return
            at += len(block)
            self.frames += len(block)
            yield block

    def stretch(self, start_frame: int, end_frame: int) -> Iterator[np.ndarray]:
        """As `blocks`, named as with `Reader`."""
        return self.blocks(start_frame, end_frame)

    def facts(self) -> FileFacts:
        """The format of the first piece's recording, with the programme's own length; size and bitrate say nothing.
        Channels are those of its recordings, however they are made mono.
        """
        formats = [source.facts() for source in self._sources.values()]
        depths = [each.bit_depth for each in formats if each.bit_depth is not None]
        return replace(
            formats[0],
            channels=max(each.channels for each in formats),
            channel_names=self.channel_names,
            bit_depth=max(depths) if len(depths) == len(formats) else None,
            lossy=any(each.lossy for each in formats),
            bit_rate_kbps=None,
            constant_bit_rate=None,
            frames=self.length,
            size_bytes=0,
        )

    def _from(self, start_frame: int) -> Iterator[np.ndarray]:
        position = 0
        tail = np.empty((0, self.channels), np.float32)
        for at, run in enumerate(self._runs):
            position -= run.overlap
            skip = max(0, start_frame - position)
            position += run.length
            if skip >= run.length:
                continue
            stream = self._run_blocks(run, skip)
            if len(tail):
                head, stream = _taken(stream, len(tail))
                yield crossfaded(tail, head, overlap=run.overlap)
            following = self._runs[at + 1].overlap if at + 1 < len(self._runs) else 0
            tail = yield from _all_but(stream, following, self.channels)

    def _run_blocks(self, run: "_Run", skip: int) -> Iterator[np.ndarray]:
        """The sound of a run in the programme's rate and channels, without its first `skip` frames."""
        if run.sample_rate_hz == self.sample_rate_hz:
            for at, piece in enumerate(run.pieces):
                if skip < piece.samples:
                    yield from self._piece_blocks(piece, skip, *run.beside(at))
                skip = max(0, skip - piece.samples)
            return
        whole = (
            block for at, piece in enumerate(run.pieces) for block in self._piece_blocks(piece, 0, *run.beside(at))
        )
        converted = resampled(whole, from_hz=run.sample_rate_hz, to_hz=self.sample_rate_hz, channels=self.channels)
        yield from _exactly(converted, run.length, skip, self.channels)

    def _piece_blocks(
        self, piece: Piece, skip: int, before: Piece | None = None, after: Piece | None = None
    ) -> Iterator[np.ndarray]:
        """The sound of a piece without its first frames; room tone passes into what stands beside it."""
        if piece.tone_samples is None:
            blocks = to_channels(self._raw(piece, skip), self.channels)
        else:
            blocks = _exactly(self._tone(piece, before, after), piece.tone_samples, skip, self.channels)
        if piece.gain_db == 0 and piece.gain_end_db is None and not (piece.fade or piece.rise or piece.fall):
            yield from blocks
            return
        at = skip
        for block in blocks:
            yield block * _gains(piece, at, len(block))
            at += len(block)

    def _raw(self, piece: Piece, skip: int) -> Iterator[np.ndarray]:
        source = self._sources[piece.span.recording]
        start, end = piece.span.start_sample, piece.span.end_sample
        # With some of what lies before, so that a jump into the piece sounds as if it had been played to there.
        lead = min(start + skip, 4 * window_frames(source.sample_rate_hz)) if piece.hush_db else 0
        sound = _mended(source, piece.mends, start + skip - lead, end)
        if piece.hush_db:
            sound = hushed(
                sound,
                noise=self._noise(source, piece),
                lower_db=piece.hush_db,
                sample_rate_hz=source.sample_rate_hz,
            )
        yield from _exactly(sound, lead + piece.samples - skip, lead, source.channels) if lead else sound

    def _tone(self, piece: Piece, before: Piece | None, after: Piece | None) -> Iterator[np.ndarray]:
        """Room tone before its own gain, from the end of the piece before to the start of the one after."""
        source = self._sources[piece.span.recording]
        if piece.span not in self._rooms:
            quiet = to_channels(source.stretch(piece.span.start_sample, piece.span.end_sample), self.channels)
            self._rooms[piece.span] = Room(np.concatenate(list(quiet)), sample_rate_hz=source.sample_rate_hz)
        ending, beginning = self._next_to(piece, before, ending=True), self._next_to(piece, after, ending=False)
        return self._rooms[piece.span].tone(certain(piece.tone_samples), ending, beginning)

    def _next_to(self, tone: Piece, other: Piece | None, *, ending: bool) -> np.ndarray:
        """What of another piece sounds directly beside room tone, as if it had the gain of that."""
        if other is None or other.tone_samples is not None or tone.gain_end_db is not None:
            return np.empty((0, self.channels), np.float32)
        count = min(other.samples, round(NEAR_S * self._sources[other.span.recording].sample_rate_hz))
        blocks = self._piece_blocks(other, other.samples - count if ending else 0)
        sound = np.concatenate([*_exactly(blocks, count, 0, self.channels)])
        return sound * np.float32(amplitude_of_db(-tone.gain_db))

    def _noise(self, source: "_Source", piece: Piece) -> np.ndarray:
        key = (piece.span.recording, piece.noise)
        if key not in self._noises:
            quiet = np.concatenate(list(source.stretch(*certain(piece.noise))))
            self._noises[key] = noise_power(quiet, sample_rate_hz=source.sample_rate_hz)
        return self._noises[key]

    def _check_overlaps(self) -> None:
        for run, following in zip(self._runs, [*self._runs[1:], None], strict=True):
            if run.overlap + (following.overlap if following else 0) > run.length:
                raise BadCut(Said("crossfade-longer-than-piece-joins"))
        if self._runs[0].overlap:
            raise BadCut(Said("first-piece-nothing-before-cross"))


@dataclass(frozen=True)
class _Run:
    """Pieces of one rate that follow each other without a crossfade; lengths in frames of the programme."""

    pieces: tuple[Piece, ...]
    sample_rate_hz: int
    length: int
    overlap: int

    def beside(self, at: int) -> tuple[Piece | None, Piece | None]:
        """What comes directly before and after one of its pieces."""
        return self.pieces[at - 1] if at else None, self.pieces[at + 1] if at + 1 < len(self.pieces) else None


def _in_runs(pieces: Sequence[Piece], rates_hz: Mapping[str, int], to_hz: int) -> list[_Run]:
    groups: list[list[Piece]] = []
    for piece in pieces:
        rate_hz = rates_hz[piece.span.recording]
        alone = not groups or piece.overlap_samples or rates_hz[groups[-1][-1].span.recording] != rate_hz
        if alone:
            groups.append([piece])
        else:
            groups[-1].append(piece)
    runs = []
    for group in groups:
        rate_hz = rates_hz[group[0].span.recording]
        samples = sum(piece.samples for piece in group)
        length = samples if rate_hz == to_hz else round(samples * to_hz / rate_hz)
        runs.append(_Run(tuple(group), rate_hz, length, group[0].overlap_samples))
    return runs


class _Source:
    """The tracks of one recording, mixed."""

    def __init__(self, tracks: Sequence[Track]):
        self._tracks = tracks
        self._readers: list[Reader] = []
        try:
            for track in tracks:
                self._readers.append(Reader(track.path))
            if len({reader.sample_rate_hz for reader in self._readers}) > 1:
                raise BadCut(Said("voices-sound-together-one-sample"))
        except BaseException:
            self.close()
            raise
        self.sample_rate_hz = self._readers[0].sample_rate_hz
        counts = [_channels_of(reader, track) for reader, track in zip(self._readers, tracks, strict=True)]
        self.channels = max(counts)
        widest = self._readers[counts.index(self.channels)]
        self.channel_names = widest.channel_names if widest.channels == self.channels else CHANNEL_NAMES[1]

    def close(self) -> None:
        for reader in self._readers:
            reader.__exit__()

    def facts(self) -> FileFacts:
        return replace(self._readers[0].format_facts(), channels=max(reader.channels for reader in self._readers))

    def stretch(self, start: int, end: int, *, beyond: int = 0) -> Iterator[np.ndarray]:
        """The mix of all tracks; a track that is not there yet or no more is silent. What is there of so many samples
        beyond the end comes along.
        """
        end += beyond
        if len(self._tracks) == 1 and not self._tracks[0].gain_db:
            length = end - start
            for block in self._sound(0, start, end):
                length -= len(block)
                yield block
            if length > beyond:
                raise UnreadableRecording(Said("recording-section-shorter-than-file"))
            return
        streams = [
            _Padded(
                to_channels(
                    self._sound(at, max(0, start - t.offset_samples), max(0, end - t.offset_samples)), self.channels
                ),
                max(0, min(end, t.offset_samples) - start),
                self.channels,
            )
            for at, t in enumerate(self._tracks)
        ]
        factors = [np.float32(amplitude_of_db(track.gain_db)) for track in self._tracks]
        at = start
        while at < end:
            count = min(_MIX_FRAMES, end - at)
            yield np.add.reduce([s.read(count) * factor for s, factor in zip(streams, factors, strict=True)])
            at += count

    def _sound(self, at: int, start: int, end: int) -> Iterator[np.ndarray]:
        blocks, fold = self._readers[at].stretch(start, end), self._tracks[at].fold
        return folded(blocks, fold) if fold else blocks


def _mended(source: _Source, names: Sequence[str], start: int, end: int) -> Iterator[np.ndarray]:
    """A stretch of a recording, mended as in the whole of it."""
    mends = [mend for name, mend in MENDS.items() if name in names]
    if not mends:
        return source.stretch(start, end)
    rate_hz = source.sample_rate_hz
    heard = round(max(mend.hears_s for mend in mends) * rate_hz)
    begin = max(0, start - heard) // (ALIGNED_S * rate_hz) * ALIGNED_S * rate_hz
    sound = source.stretch(begin, end, beyond=heard)
    for mend in mends:
        sound = mend.run(sound, rate_hz)
    return _exactly(sound, end - begin, start - begin, source.channels)


def _channels_of(reader: Reader, track: Track) -> int:
    return 1 if track.fold and reader.channels == 2 else reader.channels


class _Padded:
    """A stream read in counted blocks, with silence before it and after its end."""

    def __init__(self, blocks: Iterator[np.ndarray], silent_frames: int, channels: int):
        self._blocks = blocks
        self._rest = np.zeros((silent_frames, channels), np.float32)

    def read(self, count: int) -> np.ndarray:
        while len(self._rest) < count:
            block = next(self._blocks, None)
            if block is None:
                block = np.zeros((count - len(self._rest), self._rest.shape[1]), np.float32)
            self._rest = np.concatenate([self._rest, block])
        out, self._rest = self._rest[:count], self._rest[count:]
        return out


def _gains(piece: Piece, at: int, count: int) -> np.ndarray:
    """The factors of a stretch of a piece, float32, shape (count, 1)."""
    if piece.gain_end_db is None:
        gains = np.full((count, 1), amplitude_of_db(piece.gain_db), np.float32)
    else:
        share = (np.arange(at, at + count) / piece.samples)[:, None]
        decibels = piece.gain_db + (piece.gain_end_db - piece.gain_db) * share
        gains = (10 ** (decibels / 20)).astype(np.float32)
    if piece.fade:
        gains = gains * fade_gains(piece.fade, piece.fade_samples, piece.fade_at + at, count)
    for way, edge in (("in", piece.rise), ("out", piece.fall)):
        if edge:
            length, begins = edge
            gains = gains * fade_gains(way, length, begins + at, count)
    return gains


def _taken(stream: Iterator[np.ndarray], count: int) -> tuple[np.ndarray, Iterator[np.ndarray]]:
    """The first frames of a stream, and the rest of it."""
    found, have = [], 0
    while have < count:
        block = next(stream)
        found.append(block)
        have += len(block)
    whole = np.concatenate(found)
    return whole[:count], chain([whole[count:]] if have > count else [], stream)


def _all_but(stream: Iterator[np.ndarray], held: int, channels: int) -> Generator[np.ndarray, None, np.ndarray]:
    """Yield a stream without its last `held` frames; returns those."""
    waiting = np.empty((0, channels), np.float32)
    for block in stream:
        if not held:
            yield block
            continue
        waiting = np.concatenate([waiting, block])
        if len(waiting) > held:
            yield waiting[:-held]
            waiting = waiting[-held:]
    return waiting


def _exactly(blocks: Iterator[np.ndarray], length: int, skip: int, channels: int) -> Iterator[np.ndarray]:
    """A stream from its frame `skip` up to `length`, filled with silence where it falls short."""
    at = 0
    for block in blocks:
        block = block[: length - at]
        start = max(0, skip - at)
        at += len(block)
        if start < len(block):
            yield block[start:]
        if at >= length:
            return
    if at < length:
        yield np.zeros((length - max(at, skip), channels), np.float32)
