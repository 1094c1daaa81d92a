"""Measuring what arrived, in the background."""

import errno
import logging
from contextlib import ExitStack

import soundfile
from django.db import DatabaseError
from django_tasks import task

from mastering.audio.beside import Behind
from mastering.audio.convert import folded, to_16_bit
from mastering.audio.formats import plays
from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.errors import Cancelled, MasteringError
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.measurement import Measurement, measure
from mastering.meters.meter import Meter
from mastering.meters.sides import SUM
from mastering.said import Said, word
from sermovox.keeping import caches, storage
from sermovox.keeping.limits import is_short, refuse_too_long
from sermovox.recordings.models import Recording
from sermovox.work.progress import telling
from sermovox.work.queue import enqueue_once, is_queued

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.4


def queue_measuring(recording: Recording) -> None:
    """Have a recording measured, if it is not in the queue already. Those of several people take turns."""
    if is_queued(measure_recording, recording.pk):
        return
    own = Recording.objects.waiting().filter(production__owner=recording.production.owner_id, pk__lt=recording.pk)
    enqueue_once(measure_recording, recording.pk, short=is_short(recording.path), behind=own.count())


def queue_drawing(recording: Recording) -> None:
    """Have a measured recording drawn again, if that is not in the queue already. One that is still to be measured is
    drawn on the way.
    """
    if recording.ready and not is_queued(draw_recording, recording.pk):
        enqueue_once(draw_recording, recording.pk, short=is_short(recording.path))


@task()
def measure_recording(recording_id: int) -> None:
    """Measure a recording, draw its waveform and, where a browser could not play it, make a copy to listen to.

    Only what is found wrong with the file itself refuses it. Anything else is tried again later.
    """
    recording = Recording.objects.filter(pk=recording_id).first()
    if recording is None or not recording.begin():
        return
    try:
        recording.set_measured(_measured(recording))
    except Cancelled:
        return
    except MasteringError as error:
        state = storage.state_of(recording.sha256)
        if state != "whole":
            recording.put_off(Said("file-itself-servers-disk-bring", state=word(state)))
        elif _is_of_the_machine(error.__cause__):
            logger.exception("Measuring recording %s", recording_id)
            recording.put_off(Said("servers-disk-which-could-not"))
        else:
            recording.refuse(str(error))
    except Exception as error:
        logger.exception("Measuring recording %s", recording_id)
        recording.put_off(_awaited(error))


@task()
def draw_recording(recording_id: int) -> None:
    """Draw again what was freed from the cache; the slip stays as it is."""
    recording = Recording.objects.filter(pk=recording_id).first()
    if recording is None:
        return
    try:
        _measured(recording)
    except Cancelled:
        return
    except MasteringError:
        logger.warning("Recording %s cannot be drawn again", recording_id)


def _is_of_the_machine(cause: BaseException | None) -> bool:
    """Whether it is the disk or the memory that failed, not what was read from it."""
    outside = (errno.EIO, errno.ENOMEM, errno.EMFILE, errno.ENFILE, errno.EACCES, errno.EPERM, errno.ENOENT)
    return isinstance(cause, MemoryError) or getattr(cause, "errno", None) in outside


def _awaited(error: Exception) -> str:
    if isinstance(error, MemoryError):
        return Said("memory-machine-had-too-little")
    if storage.is_full(error):
        return Said("room-servers-disk")
    if isinstance(error, DatabaseError):
        return Said("database-which-busy")
    if isinstance(error, OSError):
        return Said("servers-disk", strerror=error.strerror)
    return Said("another-try-sermovox-stumbled-over")


def _measured(recording: Recording):
    samples = 0
    progress = telling(recording.tell_progress, every_s=_PROGRESS_EVERY_S, cancelled=Said("deleted-meanwhile"))
    with ExitStack() as kept:
        waveform = WaveformWriter(kept.enter_context(caches.making(recording.waveform_path)))
        kept.callback(waveform.close)
        with Reader(recording.path) as reader:
            rate_hz, channels = reader.sample_rate_hz, reader.channels
            # What can only be read from its start could not be played from any place on its page.
            is_playable = plays(reader.container, reader.codec) and reader.jumps
        preview = None
        if not is_playable:
            path = kept.enter_context(caches.making(storage.cached(recording.sha256, "preview.flac")))
            preview = soundfile.SoundFile(path, "w", rate_hz, channels, subtype="PCM_16", format="FLAC")
            kept.enter_context(preview)

        mono = Meter(rate_hz, CHANNEL_NAMES[1], of_recording=False)

        def draw(block):
            waveform.add(block)
            if channels == 2:
                mono.add(next(folded(iter([block]), SUM)))
            if preview:
                preview.write(next(to_16_bit(iter([block]), dither=False)))

        beside = Behind(draw)
        kept.callback(beside.close)

        def also(block):
            nonlocal samples
            samples += block.size
            refuse_too_long(samples / channels / rate_hz, channels, rate_hz)
            beside.put(block)

        measurement = measure(recording.path, also=also, progress=progress)
        beside.finish()
        measurement.save(kept.enter_context(caches.making(recording.measurement_path())))
        if channels == 2:
            # What files in mono are planned by, as most are.
            summed = Measurement(measurement.facts, mono.levels())
            summed.save(kept.enter_context(caches.making(recording.measurement_path(mono=True))))
    return measurement
