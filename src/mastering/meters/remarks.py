"""What a producer should know of a recording before anything is made of it, gravest first."""

from mastering.audio.facts import FileFacts
from mastering.meters.decibels import db_of_amplitude
from mastering.meters.measurement import Measurement
from mastering.said import Said, together

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
_SIDES = (Said("left"), Said("right"))


def said_of_flat_tops(count: int, level: float) -> str:
    """What is to be known of tops that are cut off below full scale; `level` is theirs, 1.0 full scale."""
    return Said("tops-cut-off-flat-dbfs", db_of_amplitude=db_of_amplitude(level), count=count)


def remarks(measurement: Measurement) -> tuple[str, ...]:
    """Say in plain words what is odd about a recording and what follows from it, the gravest first."""
    return (*_what_is_lost(measurement), *_what_can_be_heard(measurement), *_what_is_only_odd(measurement))


def _what_is_lost(measurement: Measurement) -> list[str]:
    """What nothing can bring back."""
    facts, levels = measurement.facts, measurement.levels
    found: list[str] = []
    if levels.silent:
        found.append(Said("silent-throughout-microphone-right-track"))
    if facts.damaged_packets:
        places = Said("places", count=facts.damaged_packets)
        found.append(Said("damaged-something-may-missing-there", places=places))
    if levels.clipped_runs:
        places = Said("places", count=levels.clipped_runs)
        found.append(Said("clipped-loudest-words-crackle-gain", places=places))
    elif levels.flattened:
        found.append(said_of_flat_tops(levels.flattened.count, levels.flattened.level))
    if levels.dead_channels:
        which = [_SIDES[c] if facts.channels == 2 else Said("channel-number", c=c + 1) for c in levels.dead_channels]
        found.append(Said("one-side-dead-holds-no", which=together(which, ", ")))
    if levels.dropouts:
        places = Said("words-hole", count=levels.dropouts)
        found.append(Said("dropouts-digital-silence-samples-were", places=places))
    if facts.lossy:
        found.append(Said("lossy-each-further-encoding-loses", codec=facts.codec.upper()))
    return found


def _what_can_be_heard(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found: list[str] = []
    if facts.sample_rate_hz <= _SPEECH_ONLY_HZ:
        found.append(Said("recorded-hz-sounds-like-telephone", sample_rate_hz=facts.sample_rate_hz))
    elif levels.bandwidth_hz is not None:
        found.append(_said_of_bandwidth(levels.bandwidth_hz, facts))
    if levels.correlation is not None and levels.correlation < _OPPOSITE:
        found.append(Said("sides-opposite-polarity-played-mono"))
    if levels.voices_apart_db is not None:
        found.append(_said_of_voices(levels.voices_apart_db))
    elif levels.channel_difference_db is not None and abs(levels.channel_difference_db) > _LOPSIDED_DB:
        louder, quieter = _SIDES if levels.channel_difference_db > 0 else _SIDES[::-1]
        found.append(
            Said(
                "side-db-louder-than-one",
                louder=louder,
                channel_difference_db=abs(levels.channel_difference_db),
                quieter=quieter,
            )
        )
    if levels.hum_dbfs is not None and levels.hum_dbfs > MUCH_HUM_DBFS:
        found.append(Said("much-hum-from-mains-hz", hum_hz=levels.hum_hz, hum_dbfs=levels.hum_dbfs))
    if levels.clicks_per_min is not None and levels.clicks_per_min >= MANY_CLICKS and (levels.speech_share or 0) > 0:
        found.append(Said("clicks-about-minute-de-click", clicks_per_min=levels.clicks_per_min))
    if levels.integrated_lufs is not None and levels.integrated_lufs < _VERY_QUIET_LUFS:
        found.append(Said("very-quiet-gain-needs-will"))
    return found


def _said_of_voices(apart_db: float) -> str:
    louder = _SIDES[0] if apart_db > 0 else _SIDES[1]
    if abs(apart_db) < 1:
        return Said("two-voices-one-each-side")
    return Said("two-voices-one-each-side-one", louder=louder, apart_db=abs(apart_db))


def _said_of_bandwidth(edge_hz: int, facts: FileFacts) -> str:
    where = Said("nothing-lies-above-khz-though", edge_hz=edge_hz / 1000, sample_rate_hz=facts.sample_rate_hz)
    if edge_hz <= _TELEPHONE_HZ:
        return Said("came-over-telephone-once-8000", where=where)
    if edge_hz <= _SPEECH_ONLY_HZ / 2:
        return Said("once-16000-hz-less-sounds", where=where)
    return Said("probably-lossy-file-before-use", where=where)


def _what_is_only_odd(measurement: Measurement) -> list[str]:
    facts, levels = measurement.facts, measurement.levels
    found: list[str] = []
    if facts.floating_point:
        found.append(Said("bit-float-some-playout-computers", bit_depth=facts.bit_depth))
    if levels.dc_offset > _MUCH_DC:
        found.append(Said("off-zero-line-full-scale", dc_offset=100 * levels.dc_offset))
    if levels.sides_alike:
        found.append(Said("both-sides-same-so-mono"))
    if facts.channels > 2:
        found.append(Said("channels-mix-down-one-two", channels=facts.channels))
    if facts.has_video:
        found.append(Said("there-picture-well-only-sound"))
    if facts.sound_tracks > 1:
        found.append(Said("there-sound-tracks-first-used", sound_tracks=facts.sound_tracks))
    return found
