"""What a producer should know of a recording before anything is made of it, gravest first."""

from mastering.meters.measurement import Measurement

_CLIPPED_DBFS = -0.01
_VERY_QUIET_LUFS = -45.0
_SPEECH_ONLY_HZ = 16000


def remarks(measurement: Measurement) -> tuple[str, ...]:
    """Say in plain words what is odd about a recording and what follows from it."""
    facts, levels = measurement.facts, measurement.levels
    found = []
    if levels.silent:
        found.append("Silent throughout. Was the microphone on, and was the right track exported?")
    if facts.damaged_packets:
        places = "one place" if facts.damaged_packets == 1 else f"{facts.damaged_packets} places"
        found.append(f"Damaged in {places}: something may be missing there. Listen, or copy the file again.")
    if levels.sample_peak_dbfs is not None and levels.sample_peak_dbfs >= _CLIPPED_DBFS:
        found.append("It reaches full scale, so it may be clipped. Gain cannot mend that; listen to the loudest words.")
    if facts.lossy:
        found.append(f"{facts.codec.upper()} is lossy: each further encoding loses quality. Use a WAV if there is one.")
    if facts.sample_rate_hz <= _SPEECH_ONLY_HZ:
        found.append(f"Recorded at {facts.sample_rate_hz} Hz: it sounds like a telephone whatever is made of it.")
    if levels.integrated_lufs is not None and levels.integrated_lufs < _VERY_QUIET_LUFS:
        found.append("Very quiet: the gain it needs will lift the room as well.")
    if levels.sides_alike:
        found.append("Both sides are the same, so mono would lose nothing and halve the file.")
    if facts.channels > 2:
        found.append(f"{facts.channels} channels: mix it down to one or two before a delivery.")
    if facts.has_video:
        found.append("There is a picture as well; only the sound is used.")
    return tuple(found)
