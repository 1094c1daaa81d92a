"""What a file says of itself: the format half of a slip."""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class FileFacts:
    """The format of one audio file.

    `bit_depth` is None for lossy codecs, which have none. `bit_rate_kbps` is the mean over the audio
    packets for lossy codecs and follows from the format for PCM. `constant_bit_rate` is None where the
    question makes no sense. `frame_kbps` are the lowest and highest bitrates of the frames of an MP3. `description`,
    `originator`, `originated` and `time_reference_frames` come from the broadcast extension of a BWF (EBU Tech 3285);
    the last counts samples since midnight.
    """

    container: str
    codec: str
    channels: int
    channel_names: tuple[str, ...]
    sample_rate_hz: int
    bit_depth: int | None
    floating_point: bool
    lossy: bool
    bit_rate_kbps: float | None
    constant_bit_rate: bool | None
    frames: int
    size_bytes: int
    has_video: bool
    damaged_packets: int
    sound_tracks: int = 1
    frame_kbps: tuple[float, float] | None = None
    description: str = ""
    originator: str = ""
    originated: str = ""
    time_reference_frames: int | None = None

    @property
    def time_reference_s(self) -> float | None:
        """When the recording begins, in seconds since midnight; None when nothing says so."""
        return None if self.time_reference_frames is None else self.time_reference_frames / self.sample_rate_hz

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate_hz
