"""Measuring what arrived, in the background."""

import logging
import time
from contextlib import ExitStack

import soundfile
from django_tasks import task

from mastering.audio.convert import to_16_bit
from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from sermovox import storage
from sermovox.recordings.models import Recording, playable

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.4


@task()
def measure_recording(recording_id: int) -> None:
    """Measure a recording, draw its waveform and, where a browser could not play it, make a copy to listen to."""
    recording = Recording.objects.filter(pk=recording_id, state=Recording.State.MEASURING).first()
    if recording is None:
        return
    try:
        recording.set_measured(_measured(recording))
    except MasteringError as error:
        recording.refuse(str(error))
    except OSError as error:
        logger.exception("Measuring recording %s", recording_id)
        recording.refuse(storage.said_of(error))
    except Exception:
        logger.exception("Measuring recording %s", recording_id)
        recording.refuse("Sermovox stumbled over this file. Export it again as WAV or FLAC and bring that in.")


@task()
def draw_recording(recording_id: int) -> None:
    """Draw again what was freed from the cache; the slip stays as it is."""
    recording = Recording.objects.filter(pk=recording_id).first()
    if recording is None:
        return
    try:
        _measured(recording)
    except MasteringError:
        logger.warning("Recording %s cannot be drawn again", recording_id)


def _measured(recording: Recording):
    told_at = 0.0

    def progress(share: float) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > _PROGRESS_EVERY_S:
            told_at = time.monotonic()
            Recording.objects.filter(pk=recording.pk).update(share_measured=share)

    with ExitStack() as kept:
        waveform = WaveformWriter(kept.enter_context(storage.whole(recording.waveform_path)))
        kept.callback(waveform.close)
        preview = _preview(recording, kept)

        def also(block):
            waveform.add(block)
            if preview:
                preview.write(next(to_16_bit(iter([block]), dither=False)))

        measurement = measure(recording.path, also=also, progress=progress)
        measurement.save(kept.enter_context(storage.whole(storage.cached(recording.sha256, "measurement.npz"))))
    return measurement


def _preview(recording: Recording, kept: ExitStack) -> soundfile.SoundFile | None:
    with Reader(recording.path) as reader:
        # What can only be read from its start could not be played from any place on its page.
        if playable(reader.container, reader.codec) and reader.jumps:
            return None
        rate_hz, channels = reader.sample_rate_hz, reader.channels
    path = kept.enter_context(storage.whole(storage.cached(recording.sha256, "preview.flac")))
    return kept.enter_context(soundfile.SoundFile(path, "w", rate_hz, channels, subtype="PCM_16", format="FLAC"))
