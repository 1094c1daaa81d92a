"""Reading and measuring a file in one pass: the whole slip."""

import json
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from mastering.audio.beside import Behind
from mastering.audio.convert import to_channels
from mastering.audio.facts import FileFacts
from mastering.audio.reader import Reader
from mastering.meters.envelope import Envelope
from mastering.meters.faults import Flattened
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.meter import Levels, Meter

Progress = Callable[[float], None]
"""Called with the share done, 0.0 to 1.0, many times a second of work. May raise Cancelled to stop."""


class Sound(Protocol):
    """What can be read once from start to end: `Reader` is one."""

    sample_rate_hz: int
    channels: int
    channel_names: tuple[str, ...]

    @property
    def frames(self) -> int: ...

    @property
    def promised_s(self) -> float | None: ...

    def blocks(self) -> Iterator[np.ndarray]: ...

    def facts(self) -> FileFacts: ...


LEVEL_FIGURES = (
    "sample_peak_dbfs",
    "true_peak_dbtp",
    "rms_dbfs",
    "rms_aes17_dbfs",
    "crest_factor_db",
    "integrated_lufs",
    "max_momentary_lufs",
    "max_short_term_lufs",
    "loudness_range_lu",
    "noise_floor_dbfs",
    "head_s",
    "tail_s",
    "speech_share",
    "dropouts",
    "clipped_runs",
    "dc_offset",
    "correlation",
    "channel_difference_db",
    "bandwidth_hz",
)


_DIGITS = {"dc_offset": 5, "dropouts": 0, "clipped_runs": 0, "bandwidth_hz": 0}


@dataclass(frozen=True)
class Measurement:
    """The format and the levels of one file."""

    facts: FileFacts
    levels: Levels

    def figures(self) -> dict[str, Any]:
        """The public figures under their public names. Levels are rounded to hundredths; null is undefined."""
        facts = self.facts
        return {
            "container": facts.container,
            "codec": facts.codec,
            "channels": facts.channels,
            "sample_rate_hz": facts.sample_rate_hz,
            "bit_depth": facts.bit_depth,
            "bit_rate_kbps": _rounded(facts.bit_rate_kbps, 1),
            "duration_s": _rounded(facts.duration_s, 3),
            "size_bytes": facts.size_bytes,
        } | {name: _rounded(getattr(self.levels, name), _DIGITS.get(name, 2)) for name in LEVEL_FIGURES}

    def origin(self) -> dict[str, Any]:
        """What a slip keeps beyond the figures: the exact length, float or not, what the recorder wrote, dead sides,
        how far two voices on two sides lie apart, hum, clicks and tops that are cut off.
        """
        facts = self.facts
        return {
            "floating_point": facts.floating_point,
            "description": facts.description,
            "originator": facts.originator,
            "originated": facts.originated,
            "time_reference_s": _rounded(facts.time_reference_s, 3),
            "frames": facts.frames,
            "dead_channels": list(self.levels.dead_channels),
            "voices_apart_db": _rounded(self.levels.voices_apart_db, 2),
            "hum_hz": self.levels.hum_hz,
            "hum_dbfs": _rounded(self.levels.hum_dbfs, 1),
            "clicks_per_min": _rounded(self.levels.clicks_per_min, 0),
            "flattened": asdict(self.levels.flattened) if self.levels.flattened else None,
            "lossy": facts.lossy,
        }

    def save(self, path: Path) -> None:
        """Keep all of it, envelope included, in one NumPy archive."""
        plain = {f.name: getattr(self.levels, f.name) for f in fields(Levels)}
        plain["flattened"] = asdict(self.levels.flattened) if self.levels.flattened else None
        arrays = {"steps": plain.pop("steps")}
        envelope = plain.pop("envelope")
        arrays |= {name: getattr(envelope, name) for name in ("weighted", "power", "peak")}
        text = json.dumps({"facts": asdict(self.facts), "levels": plain})
        with path.open("wb") as file:
            np.savez(file, text=np.array(text), **arrays)

    @classmethod
    def load(cls, path: Path) -> "Measurement":
        """Read what `save` wrote. Raises OSError, ValueError or KeyError when it is not there or not whole."""
        with np.load(path, allow_pickle=False) as kept:
            plain = json.loads(str(kept["text"]))
            envelope = Envelope(kept["weighted"], kept["power"], kept["peak"])
            plain["levels"]["dead_channels"] = tuple(plain["levels"]["dead_channels"])
            if flattened := plain["levels"].get("flattened"):
                plain["levels"]["flattened"] = Flattened(**flattened | {"places_s": tuple(flattened["places_s"])})
            levels = Levels(**plain["levels"], steps=kept["steps"], envelope=envelope)
        facts = plain["facts"] | {"channel_names": tuple(plain["facts"]["channel_names"])}
        if facts.get("frame_kbps"):
            facts["frame_kbps"] = tuple(facts["frame_kbps"])
        return cls(FileFacts(**facts), levels)


def measure(
    path: Path | str,
    *,
    channels: int | None = None,
    of_recording: bool = True,
    also: Callable[[np.ndarray], None] | None = None,
    progress: Progress | None = None,
) -> Measurement:
    """Read a file once and measure all of it.

    Parameters
    ----------
    channels
        Measure it as mono (1) or stereo (2) would sound instead of as it is.
    of_recording
        As for `Meter`.
    also
        Given each block of the recording as it is, for what else one pass can yield.

    Raises
    ------
    UnreadableRecording
    """
    with Reader(path) as reader:
        return measure_opened(reader, channels=channels, of_recording=of_recording, also=also, progress=progress)


def measure_opened(
    reader: Sound,
    *,
    channels: int | None = None,
    of_recording: bool = True,
    also: Callable[[np.ndarray], None] | None = None,
    through: Callable[[Iterator[np.ndarray]], Iterator[np.ndarray]] = lambda blocks: blocks,
    progress: Progress | None = None,
) -> Measurement:
    """As `measure`, for what is open already: a file, or a programme made of several.

    `through` is what the blocks go through before they are measured, in the number of channels that is measured.
    """
    names = reader.channel_names
    if channels and channels != len(names):
        names = CHANNEL_NAMES[channels]
    with closing(Behind[Callable[[], None]](lambda work: work())) as aside:
        meter = Meter(reader.sample_rate_hz, names, of_recording=of_recording, aside=aside)
        for block in through(to_channels(watched(reader, also=also, progress=progress), len(names))):
            meter.add(block)
        return Measurement(reader.facts(), meter.levels())


def watched(
    reader: Sound,
    *,
    also: Callable[[np.ndarray], None] | None = None,
    progress: Progress | None = None,
) -> Iterator[np.ndarray]:
    """The blocks of a reader, with progress told along the way."""
    promised_frames = max(1.0, (reader.promised_s or 0.0) * reader.sample_rate_hz)
    for block in reader.blocks():
        if also:
            also(block)
        yield block
        if progress:
            progress(min(1.0, reader.frames / promised_frames))


def _rounded(value: float | None, digits: int) -> float | None:
    return None if value is None else round(float(value), digits or None)
