"""What a producer should know of a recording before anything is made of it, gravest first."""

from mastering.meters.measurement import Measurement

_VERY_QUIET_LUFS = -45.0
_SPEECH_ONLY_HZ = 16000
_MUCH_HUM_DBFS = -60.0
_SIDES = ("left", "right")


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
    if levels.dead_channels:
        which = [_SIDES[c] if facts.channels == 2 else f"number {c + 1}" for c in levels.dead_channels]
        found.append(
            f"One side is dead ({', '.join(which)}): it holds no sound. Make mono of the other; stereo would play on "
            "one side only, and mixing both to mono loses 6 dB."
        )
    if facts.lossy:
        found.append(f"{facts.codec.upper()} is lossy: each further encoding loses quality. Use a WAV if there is one.")
    return found


def _what_can_be_heard(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found = []
    if facts.sample_rate_hz <= _SPEECH_ONLY_HZ:
        found.append(f"Recorded at {facts.sample_rate_hz} Hz: it sounds like a telephone whatever is made of it.")
    if levels.hum_dbfs is not None and levels.hum_dbfs > _MUCH_HUM_DBFS:
        found.append(
            f"Much hum from the mains: {levels.hum_hz} Hz at {levels.hum_dbfs:.0f} dBFS. It will be heard in the "
            "pauses; look at cables and power supplies."
        )
    if levels.integrated_lufs is not None and levels.integrated_lufs < _VERY_QUIET_LUFS:
        found.append("Very quiet: the gain it needs will lift the room as well.")
    return found


def _what_is_only_odd(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found = []
    if facts.floating_point:
        found.append(
            f"{facts.bit_depth}-bit float: some playout computers stop at such a file. What is made of it here is "
            "whole numbers again."
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
