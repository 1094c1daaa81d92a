"""Samples in: any file libav decodes, as a stream of float32 blocks."""

import hashlib
from collections.abc import Iterator
from itertools import chain, islice
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.container import InputContainer

from mastering.audio.beside import Ahead
from mastering.audio.facts import FileFacts
from mastering.audio.formats import CODECS, MP3_KBPS, found_as
from mastering.audio.headers import missing_audio_fraction
from mastering.audio.opening import open_safely
from mastering.certain import certain
from mastering.clock import clock
from mastering.errors import UnreadableRecording
from mastering.said import Said

BLOCK_FRAMES = 65536
_STRETCH_FRAMES = 8192
"""Shorter blocks when listening: the first is to be there at once."""

_MIN_RATE_HZ, _MAX_RATE_HZ = 8000, 192000
_MAX_CHANNELS = 8
_TOLERATED_SHORTFALL_S = 0.25
"""A container may promise a little more than the codec gives: encoder delay, a rounded length."""

_PCM_DEPTHS = {"u8": 8, "s8": 8, "s16": 16, "s24": 24, "s32": 32, "f32": 32, "f64": 64}
_LOSSLESS = ("flac", "alac", "wavpack", "ape", "tta")
_AAC_FRAME = 2048
"""The longest frame of AAC, with its high-efficiency extension (ISO/IEC 14496-3, 4.6.18; from memory)."""
_RUN_UP_S = 1.0
"""Decoded and thrown away before the place jumped to: longer than the bit reservoir of MP3 and the overlap of AAC."""
_INTEGER_SCALES = {"u1": 128.0, "i2": 32768.0, "i4": 2147483648.0}


class Reader:
    """Decode one audio file, block by block.

    Parameters
    ----------
    path
        The file. It is only ever read.

    Raises
    ------
    UnreadableRecording
        When it is empty, is no audio, or (while reading) is damaged or cut off.

    Example
    -------
    >>> with Reader(path) as reader:                     # doctest: +SKIP
    ...     for block in reader.blocks(): print(block.shape)
    ...     print(reader.facts().duration_s)
    """

    def __init__(self, path: Path | str):
        self.path = Path(path)
        self.size_bytes = self._size()
        self._container = self._open()
        try:
            self._stream = self._audio_stream()
            self._codec = self._stream.codec_context
            self.sample_rate_hz = self._codec.rate
            self.channels = self._codec.channels
            self.channel_names = tuple(channel.name for channel in self._codec.layout.channels)
            self._refuse_odd_formats()
        except BaseException:
            self._container.close()
            raise
        self.frames = 0
        self.damaged_packets = 0
        self._finished = False
        self._origin: int | None = None
        self._ahead: Ahead[np.ndarray] | None = None
        self._coming: Iterator[av.AudioFrame] = iter(())
        self._packet_bytes = self._packets = 0
        self._packet_sizes: set[int] = set()
        self._last_packet_bytes = self._packet_frames = 0

    def __enter__(self) -> "Reader":
        return self

    def __exit__(self, *exc: object) -> None:
        if self._ahead:
            self._ahead.close()
        self._container.close()

    @property
    def container(self) -> str:
        name = self._container.format.name
        # A recording's slip says what the file is made of, which may be more than sound.
        return name if name == "asf" else found_as(name)

    @property
    def codec(self) -> str:
        return str(self._codec.name.removesuffix("float"))

    @property
    def promised_s(self) -> float | None:
        """The length the container states, in seconds, or None. Good for progress, not for measuring."""
        if self._stream.duration:
            return float(self._stream.duration * self._stream.time_base)
        if self._container.duration:
            return float(self._container.duration / av.time_base)
        return None

    def blocks(self) -> Iterator[np.ndarray]:
        """Yield float32 blocks of shape (frames, channels), full scale 1.0; BLOCK_FRAMES each but the last. They are
        decoded in a thread of its own, a few ahead.

        Raises UnreadableRecording at the end if nothing could be decoded or the recording is cut off.
        """
        self._ahead = Ahead(self._blocks())
        yield from self._ahead

    def _blocks(self) -> Iterator[np.ndarray]:
        # libav hands out frames of about a thousand samples; its own queue joins them faster than we could.
        queue = av.AudioFifo()
        held_back = _AAC_FRAME if self._pads_its_end else 0
        for packet in self._counted_packets():
            try:
                held = 0
                for frame in packet.decode():
                    frame.pts = None
                    held += frame.samples
                    queue.write(frame)
                self._packet_frames = max(self._packet_frames, held)
            except av.error.FFmpegError:
                self.damaged_packets += 1
            except ValueError as error:
                raise UnreadableRecording(Said("recording-changes-sample-rate-number")) from error
            while queue.samples >= BLOCK_FRAMES + held_back:
                yield self._as_block(certain(queue.read(BLOCK_FRAMES)))
        if held_back:
            self._drop_padding(queue)
        while queue.samples:
            yield self._as_block(certain(queue.read(min(BLOCK_FRAMES, queue.samples))))
        self._finish()

    def walk(self, frames: int) -> str:
        """Pass over all packets without decoding them, in place of reading `blocks`: they are known to hold so many
        frames. Returns the SHA-256 of their bytes, one after the other. Raises UnreadableRecording.
        """
        digest = hashlib.sha256()
        for packet in self._counted_packets():
            digest.update(packet)
        self.frames = frames
        self._finish()
        return digest.hexdigest()

    def _counted_packets(self) -> Iterator[Any]:
        previous = last = 0
        for packet in self._container.demux(self._stream):
            if size := packet.size:
                self._packet_bytes += size
                self._packets += 1
                if previous != last:
                    self._packet_sizes.add(last)
                previous, last = last, size
            yield packet
        self._packet_sizes.add(previous or last)
        self._last_packet_bytes = last

    def _finish(self) -> None:
        self._finished = True
        self._refuse_cut_off()
        if self._ends_inside_a_frame():
            self.damaged_packets += 1

    @property
    def _pads_its_end(self) -> bool:
        return self.codec == "aac" and self.container == "mp4" and bool(self._stream.duration)

    def _drop_padding(self, queue: av.AudioFifo) -> None:
        """Leave out what fills the last frame of AAC: the file says where sound ends (ISO/IEC 14496-12, 8.6.6)."""
        stated = round(self._stream.duration * self._stream.time_base * self.sample_rate_hz)
        padding = self.frames + queue.samples - stated
        if 0 < padding < min(_AAC_FRAME, queue.samples):
            kept = certain(queue.read(queue.samples - padding))
            queue.read()
            kept.pts = None
            queue.write(kept)

    @property
    def jumps(self) -> bool:
        """Whether a place in the middle is reached without reading all that lies before it."""
        return self._seeks_exactly

    def stretch(self, start_frame: int, end_frame: int, *, nearly: bool = False) -> Iterator[np.ndarray]:
        """Yield the samples from `start_frame` up to `end_frame`, float32 blocks of shape (frames, channels).

        They are the samples that reading from the start would give there; nothing comes beyond the end of the
        recording, but for what fills the last frame of AAC, which cuts made by earlier versions may reach into. Jumps
        where the codec allows it, and with `nearly` in every codec: they may then be those of some milliseconds beside.
        Damaged packets are passed over.
        """
        at = self._jump(start_frame, nearly=nearly)
        for block in self._decoded():
            before, at = at, at + len(block)
            if at <= start_frame:
                continue
            wanted = block[max(0, start_frame - before) : end_frame - before]
            if len(wanted):
                yield wanted
            if at >= end_frame:
                return

    def _jump(self, frame: int, *, nearly: bool) -> int:
        """Move to a little before a frame. Returns the number of the frame that is decoded next."""
        origin = self._origin_pts()
        if frame < 2 * _RUN_UP_S * self.sample_rate_hz or not (nearly or self._seeks_exactly):
            return self._rewind()
        wanted_s = frame / self.sample_rate_hz - _RUN_UP_S
        try:
            self._container.seek(
                origin + int(wanted_s / self._stream.time_base), stream=self._stream, backward=True, any_frame=False
            )
            self._coming = self._frames_on()
            first = next(self._coming)
        except (av.error.FFmpegError, StopIteration):
            return self._rewind()
        if first.pts is None:
            return self._rewind()
        at = round((first.pts - origin) * self._stream.time_base * self.sample_rate_hz)
        self._coming = chain([first], self._coming)
        return at if at <= frame else self._rewind()

    def _origin_pts(self) -> int:
        """The time stamp of the first sample, in the stream's time base.

        From a frame that is not the first: a decoder may drop the start of that one without saying so in its stamp.
        """
        if self._origin is None:
            self._origin = frames = self._rewind()
            for frame in islice(self._frames_on(), 3):
                self._origin = (frame.pts or 0) - round(frames / self.sample_rate_hz / self._stream.time_base)
                frames += frame.samples
            self._rewind()
        return self._origin

    def _rewind(self) -> int:
        self._container.close()
        self._container = self._open()
        self._stream = self._audio_stream()
        self._codec = self._stream.codec_context
        self._coming = self._frames_on()
        return 0

    def _frames_on(self) -> Iterator[av.AudioFrame]:
        for packet in self._container.demux(self._stream):
            try:
                yield from packet.decode()
            except av.error.FFmpegError:
                self.damaged_packets += 1

    def _decoded(self) -> Iterator[np.ndarray]:
        queue = av.AudioFifo()
        for frame in self._coming:
            frame.pts = None
            queue.write(frame)
            while queue.samples >= _STRETCH_FRAMES:
                yield self._as_block(certain(queue.read(_STRETCH_FRAMES)))
        if queue.samples:
            yield self._as_block(certain(queue.read()))

    @property
    def _seeks_exactly(self) -> bool:
        # Matroska counts in milliseconds: too coarse to tell one sample from the next.
        fine = self._stream.time_base * self.sample_rate_hz <= 1
        return fine and (self.codec.startswith("pcm_") or self.codec in CODECS and CODECS[self.codec].seeks)

    def facts(self) -> FileFacts:
        """The format facts. Complete once `blocks` has been read to its end."""
        if not self._finished:
            raise RuntimeError("facts() wants blocks() read to the end first")
        return self.format_facts()

    def format_facts(self) -> FileFacts:
        """The facts as far as they are known without reading: the figures that count samples or packets may be 0."""
        depth, floating = self._depth()
        lossy = depth is None
        return FileFacts(
            container=self.container,
            codec=self.codec,
            channels=self.channels,
            channel_names=self.channel_names,
            sample_rate_hz=self.sample_rate_hz,
            bit_depth=depth,
            floating_point=floating,
            lossy=lossy,
            bit_rate_kbps=self._bit_rate_kbps(),
            constant_bit_rate=self._constant_bit_rate() if lossy and self._packet_sizes else None,
            frame_kbps=self._frame_kbps(),
            frames=self.frames,
            size_bytes=self.size_bytes,
            has_video=self._has_video(),
            damaged_packets=self.damaged_packets,
            sound_tracks=len(self._container.streams.audio),
            **self._broadcast_facts(),
        )

    def _broadcast_facts(self) -> dict[str, Any]:
        said = self._container.metadata if self.container == "wav" else {}
        if "time_reference" not in said:
            return {}
        reference = said["time_reference"]
        return {
            "description": said.get("comment", "") or said.get("description", ""),
            "originator": said.get("encoded_by", "") or said.get("originator", ""),
            "originated": f"{said.get('date', '')} {said.get('creation_time', '')}".strip(),
            "time_reference_frames": int(reference) if reference.isdecimal() else None,
        }

    def _size(self) -> int:
        try:
            size_bytes = self.path.stat().st_size
        except OSError as error:
            raise UnreadableRecording(Said("file-not-there-may-been")) from error
        if not self.path.is_file():
            raise UnreadableRecording(Said("folder-not-recording", name=self.path.name))
        if size_bytes == 0:
            raise UnreadableRecording(Said("file-empty-0-bytes-copy"))
        return size_bytes

    def _open(self) -> InputContainer:
        try:
            return open_safely(self.path)
        except (av.error.FFmpegError, ValueError, OSError) as error:
            if missing_audio_fraction(self.path) == 1.0:
                raise UnreadableRecording(Said("file-header-no-sound-after")) from error
            raise UnreadableRecording(Said("not-sound-file-whatever-name")) from error

    def _audio_stream(self) -> Any:
        if self._container.format.name in ("hls", "concat", "concatf", "dash", "sdp", "rtsp", "image2"):
            raise UnreadableRecording(Said("list-other-files-not-recording"))
        if not self._container.streams.audio:
            raise UnreadableRecording(Said("there-no-sound-file-choose"))
        stream: Any = self._container.streams.audio[0]
        if stream.codec_context is None:
            raise UnreadableRecording(Said("sermovox-no-decoder-codec-export"))
        stream.thread_type = "NONE"
        return stream

    def _refuse_odd_formats(self) -> None:
        if not self.channels or not self.sample_rate_hz:
            raise UnreadableRecording(Said("header-file-states-no-channels"))
        if self.channels > _MAX_CHANNELS:
            raise UnreadableRecording(
                Said("recording-channels-sermovox-reads-up", channels=self.channels, max_channels=_MAX_CHANNELS)
            )
        if not _MIN_RATE_HZ <= self.sample_rate_hz <= _MAX_RATE_HZ:
            raise UnreadableRecording(
                Said(
                    "recording-sample-rate-hz-sermovox",
                    sample_rate_hz=self.sample_rate_hz,
                    min_rate_hz=_MIN_RATE_HZ,
                    max_rate_hz=_MAX_RATE_HZ,
                )
            )

    def _as_block(self, frame: av.AudioFrame) -> np.ndarray:
        raw: np.ndarray = frame.to_ndarray()
        samples = raw.T if frame.format.is_planar else raw.reshape(-1, self.channels)
        self.frames += len(samples)
        kind = samples.dtype.str[1:]
        if kind in _INTEGER_SCALES:
            # 24 bits and more come as 32; the division wants double precision before it is rounded to single.
            exact: Any = samples.astype(np.float32 if kind != "i4" else np.float64)
            if kind == "u1":
                exact -= 128
            exact *= 1 / _INTEGER_SCALES[kind]
            told: np.ndarray = exact.astype(np.float32, copy=False)
            return told
        # Floats may hold what is not a number; it would spoil every filter after it.
        samples = samples.astype(np.float32, order="C", copy=False)
        return samples if np.isfinite(samples.sum()) else np.nan_to_num(samples, posinf=1.0, neginf=-1.0)

    def _refuse_cut_off(self) -> None:
        if not self.frames:
            raise UnreadableRecording(Said("there-not-one-sample-sound"))
        got_s = self.frames / self.sample_rate_hz
        promised_s = self.promised_s or 0.0
        missing = missing_audio_fraction(self.path)
        if missing:
            promised_s = max(promised_s, got_s / (1.0 - missing))
        if promised_s - got_s > _TOLERATED_SHORTFALL_S:
            raise UnreadableRecording(
                Said("file-stops-after-though-says", got_s=clock(got_s), promised_s=clock(round(promised_s, 2)))
            )

    def _depth(self) -> tuple[int | None, bool]:
        codec = self._codec.name
        if codec.startswith("pcm_"):
            kind = codec.removeprefix("pcm_").removesuffix("le").removesuffix("be").removesuffix("_planar")
            kind = kind.removesuffix("le").removesuffix("be")
            return (_PCM_DEPTHS[kind], kind.startswith("f")) if kind in _PCM_DEPTHS else (None, False)
        extra = bytes(self._codec.extradata or b"")
        if codec == "flac" and len(extra) >= 14:  # STREAMINFO, RFC 9639 section 8.2
            return ((extra[12] & 1) << 4 | extra[13] >> 4) + 1, False
        if codec == "alac" and len(extra) >= 18:  # the magic cookie: atom header, version, then sample size
            return extra[17], False
        if codec in _LOSSLESS:
            return (16 if self._codec.format.name.startswith("s16") else 24), False
        return None, False

    def _bit_rate_kbps(self) -> float | None:
        if self._codec.name.startswith("pcm_"):
            return float(self.sample_rate_hz * self.channels * self._packed_bits() / 1000)
        if not self.frames:
            return None
        frames = self.frames
        if self.codec == "mp3":
            # By whole frames: what a header says to drop at either end was paid for too.
            frames = self._packets * (1152 if self.sample_rate_hz >= 32000 else 576)
        elif self._packet_sizes and self._constant_bit_rate():
            frames = self._packets * self._packet_frames
        return float(self._packet_bytes * 8 * self.sample_rate_hz / frames / 1000)

    def _frame_kbps(self) -> tuple[float, float] | None:
        known = MP3_KBPS.get(self.sample_rate_hz)
        if self.codec != "mp3" or not self._packet_sizes or not known:
            return None
        a_byte_kbps = 8 * self.sample_rate_hz / (1152 if self.sample_rate_hz >= 32000 else 576) / 1000
        found = [size * a_byte_kbps for size in (min(self._packet_sizes), max(self._packet_sizes))]
        # A frame may be a byte longer than its bitrate says.
        low, high = (min((abs(kbps - own), kbps) for kbps in known)[1] for own in found)
        return low, high

    def _packed_bits(self) -> int:
        depth, _ = self._depth()
        return depth or 8

    def _constant_bit_rate(self) -> bool:
        # A constant stream's frames differ by the one padding byte at most (ISO/IEC 11172-3, 2.4.2.3).
        return max(self._packet_sizes) - min(self._packet_sizes) <= 1

    def _ends_inside_a_frame(self) -> bool:
        if self._codec.name not in ("mp3", "mp3float"):
            return False
        return self._constant_bit_rate() and self._last_packet_bytes < min(self._packet_sizes)

    def _has_video(self) -> bool:
        cover = av.stream.Disposition.attached_pic
        return any(not stream.disposition & cover for stream in self._container.streams.video)
