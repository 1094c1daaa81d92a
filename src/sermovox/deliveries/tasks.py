"""Making files, in the background."""

import hashlib
import logging
import shutil
import time

from django_tasks import task

from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.errors import Cancelled, MasteringError
from mastering.pipeline import Made, make
from sermovox.deliveries.models import FinishedFile
from sermovox.levelling.plans import plan_beside
from sermovox.levelling.soundings import Member, Soundings
from sermovox.storage import whole

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.5


@task()
def make_file(file_id: int) -> None:
    """Make, check and record one file of a delivery."""
    file = FinishedFile.objects.select_related("delivery__production", "recording").filter(pk=file_id).first()
    if file is None or not file.begin():
        return
    try:
        made = _made(file)
        with file.path.open("rb") as content:
            sha256 = hashlib.file_digest(content, "sha256").hexdigest()
        file.set_made(made, sha256)
        file.delivery.hold_together()
    except Cancelled:
        file.set_cancelled()
    except MasteringError as error:
        file.set_refused(str(error))
    except OSError as error:
        file.set_refused(f"The disk would not take the file ({error.strerror}). Free some space, then run it again.")
    except Exception:
        logger.exception("Making file %s", file_id)
        file.set_refused("Sermovox stumbled over this section. The recording is untouched; run it again.")
    if not file.is_made:
        shutil.rmtree(file.folder, ignore_errors=True)


@task()
def draw_file(file_id: int) -> None:
    """Draw the waveform of a finished file again."""
    file = FinishedFile.objects.filter(pk=file_id).first()
    if file is None or not file.is_made or not file.path.exists():
        return
    with whole(file.waveform_path) as path:
        writer = WaveformWriter(path)
        with Reader(file.path) as reader:
            for block in reader.blocks():
                writer.add(block)
        writer.close()


def _made(file: FinishedFile) -> Made:
    recording = file.recording
    if file.programme is None and (recording is None or not recording.ready):
        reason = recording.refusal if recording else ""
        raise MasteringError(f"This section has no recording that can be used. {reason}".strip())
    told_at = 0.0

    def stages(stage: str, share: float) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > _PROGRESS_EVERY_S:
            told_at = time.monotonic()
            if file.tell_progress(stage, share):
                raise Cancelled("Cancelled.")

    outlet = file.delivery.outlet
    soundings = Soundings(file.delivery.production)
    member = Member(file.sounding, outlet, soundings.channels_of)
    plan = None
    if member.treatment.together or outlet.compares_files:
        beside = soundings.beside(member, outlet)
        plan = plan_beside(member, beside, outlet, lambda share: stages("Measuring the other sections", 0.0))
    return make(
        member.source,
        outlet,
        file.path,
        content_kind=file.content_kind,
        treatment=member.treatment,
        measured=member.measurement,
        plan=plan,
        waveform=file.waveform_path,
        stages=stages,
    )
