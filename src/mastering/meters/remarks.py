"""What a producer should know of a recording before anything is made of it, gravest first."""

from mastering.audio.facts import FileFacts
from mastering.meters.decibels import db_of_amplitude
from mastering.meters.measurement import Measurement

_VERY_QUIET_LUFS = -45.0
_SPEECH_ONLY_HZ = 16000
_TELEPHONE_HZ = 4250
MUCH_HUM_DBFS = -60.0
_OPPOSITE = -0.5
_LOPSIDED_DB = 4.0
_MUCH_DC = 0.003
"""0.3 % of full scale, about -50 dBFS (common practice, no source)."""
MANY_CLICKS = 30
"""In a minute (common practice, no source): prompts of three readers have none."""
_SIDES = ("left", "right")


def said_of_flat_tops(count: int, level: float) -> str:
    """What is to be known of tops that are cut off below full scale; `level` is theirs, 1.0 full scale."""
    return (
        f"Its tops are cut off flat at {db_of_amplitude(level):.1f} dBFS, {count} times: it was overdriven before it "
        "was made quieter. The loudest words crackle, and nothing here mends that; its page shows where."
    )


def remarks(measurement: Measurement) -> tuple[str, ...]:
    """Say in plain words what is odd about a recording and what follows from it, the gravest first."""
    return (*_what_is_lost(measurement), *_what_can_be_heard(measurement), *_what_is_only_odd(measurement))


def _what_is_lost(measurement: Measurement) -> list[str]:
    """What nothing can bring back."""
    facts, levels = measurement.facts, measurement.levels
    found = []
    if levels.silent:
        found.append("Silent throughout. Was the microphone on, and was the right track exported?")
    if facts.damaged_packets:
        places = "one place" if facts.damaged_packets == 1 else f"{facts.damaged_packets} places"
        found.append(f"Damaged in {places}: something may be missing there. Listen, or copy the file again.")
    if levels.clipped_runs:
        places = "one place" if levels.clipped_runs == 1 else f"{levels.clipped_runs} places"
        found.append(f"Clipped in {places}: the loudest words crackle, and gain cannot mend that. Listen to them.")
    elif levels.flattened:
        found.append(said_of_flat_tops(levels.flattened.count, levels.flattened.level))
    if levels.dead_channels:
        which = [_SIDES[c] if facts.channels == 2 else f"number {c + 1}" for c in levels.dead_channels]
        found.append(
            f"One side is dead ({', '.join(which)}): it holds no sound. Make mono of the other; stereo would play on "
            "one side only, and mixing both to mono loses 6 dB."
        )
    if levels.dropouts:
        places = "one word has a hole" if levels.dropouts == 1 else f"{levels.dropouts} words have a hole"
        found.append(f"Dropouts: {places} of digital silence in it. Samples were lost while recording; read it again.")
    if facts.lossy:
        found.append(f"{facts.codec.upper()} is lossy: each further encoding loses quality. Use a WAV if there is one.")
    return found


def _what_can_be_heard(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found = []
    if facts.sample_rate_hz <= _SPEECH_ONLY_HZ:
        found.append(f"Recorded at {facts.sample_rate_hz} Hz: it sounds like a telephone whatever is made of it.")
    elif levels.bandwidth_hz is not None:
        found.append(_said_of_bandwidth(levels.bandwidth_hz, facts))
    if levels.correlation is not None and levels.correlation < _OPPOSITE:
        found.append(
            "The sides are of opposite polarity: played in mono the voice all but vanishes. Turn one side round before "
            "it is mixed."
        )
    if levels.voices_apart_db is not None:
        found.append(_said_of_voices(levels.voices_apart_db))
    elif levels.channel_difference_db is not None and abs(levels.channel_difference_db) > _LOPSIDED_DB:
        louder, quieter = _SIDES if levels.channel_difference_db > 0 else _SIDES[::-1]
        found.append(
            f"The {louder} side is {abs(levels.channel_difference_db):.0f} dB louder than the {quieter} one: on "
            "headphones the voice sits to one side. Make mono of it, or even them out."
        )
    if levels.hum_dbfs is not None and levels.hum_dbfs > MUCH_HUM_DBFS:
        found.append(
            f"Much hum from the mains: {levels.hum_hz} Hz at {levels.hum_dbfs:.0f} dBFS. It will be heard in the "
            "pauses; the hum filter takes it away. Look at cables and power supplies before the next recording."
        )
    if levels.clicks_per_min is not None and levels.clicks_per_min >= MANY_CLICKS and (levels.speech_share or 0) > 0:
        found.append(f"Clicks: about {levels.clicks_per_min:.0f} in a minute. De-click mends most of them.")
    if levels.integrated_lufs is not None and levels.integrated_lufs < _VERY_QUIET_LUFS:
        found.append("Very quiet: the gain it needs will lift the room as well.")
    return found


def _said_of_voices(apart_db: float) -> str:
    louder = _SIDES[0] if apart_db > 0 else _SIDES[1]
    if abs(apart_db) < 1:
        return (
            "Two voices, one on each side: on headphones each is in one ear. On its page they can be brought to the "
            "middle."
        )
    return (
        f"Two voices, one on each side, the {louder} one {abs(apart_db):.0f} dB louder: on headphones each is in one "
        "ear. On its page they can be brought to the middle, at one level."
    )


def _said_of_bandwidth(edge_hz: int, facts: FileFacts) -> str:
    where = f"Nothing lies above {edge_hz / 1000:g} kHz, though {facts.sample_rate_hz} Hz would hold more"
    if edge_hz <= _TELEPHONE_HZ:
        return f"{where}: it came over a telephone or was once at 8000 Hz, and nothing brings the rest back."
    if edge_hz <= _SPEECH_ONLY_HZ / 2:
        return f"{where}: it was once at 16000 Hz or less, and sounds dull. Nothing brings the rest back."
    return f"{where}: it was probably a lossy file before. Use the first recording if there is one."


def _what_is_only_odd(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found = []
    if facts.floating_point:
        found.append(
            f"{facts.bit_depth}-bit float: some playout computers stop at such a file. What is made of it here is "
            "whole numbers again."
        )
    if levels.dc_offset > _MUCH_DC:
        found.append(
            f"Off its zero line by {100 * levels.dc_offset:.1f} % of full scale: cuts may click, and there is less "
            "room for the peaks. A high-pass filter takes it out."
        )
    if levels.sides_alike:
        found.append("Both sides are the same, so mono would lose nothing and halve the file.")
    if facts.channels > 2:
        found.append(f"{facts.channels} channels: mix it down to one or two before a delivery.")
    if facts.has_video:
        found.append("There is a picture as well; only the sound is used.")
    if facts.sound_tracks > 1:
        found.append(f"There are {facts.sound_tracks} sound tracks; the first is used.")
    return found
