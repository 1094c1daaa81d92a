"""Making files, in the background."""

import hashlib
import logging
import shutil
import time
from collections.abc import Callable

from django_tasks import task

from mastering.audio.reader import Reader
from mastering.audio.waveform import WaveformWriter
from mastering.errors import Cancelled, CannotMake, MasteringError
from mastering.making.job import Order
from mastering.making.proving import Made
from mastering.making.timing import Stages
from mastering.pipeline import make_all
from mastering.said import Said
from mastering.tagging.inscription import BadTag
from sermovox.deliveries.bundles import said_now
from sermovox.deliveries.inscriptions import restored
from sermovox.deliveries.models import FinishedFile
from sermovox.deliveries.proof import prove_recordings
from sermovox.keeping import caches
from sermovox.keeping.storage import not_written
from sermovox.levelling.members import Member, beside
from sermovox.levelling.plans import plan_beside
from sermovox.sources.soundings import Sounding, Soundings

logger = logging.getLogger(__name__)
_PROGRESS_EVERY_S = 0.5


@task()
def make_file(file_id: int) -> None:
    """As `make_files` for one; what earlier versions have queued."""
    _make([file_id])


@task()
def make_files(file_ids: list[int]) -> None:
    """Make, check and record the files of one section, for one outlet or several."""
    _make(file_ids)


def _make(file_ids: list[int]) -> None:
    files = FinishedFile.objects.select_related("delivery__production", "recording", "section").filter(pk__in=file_ids)
    begun = [file for file in files.order_by("pk") if file.begin()]
    if not begun:
        return
    try:
        _record(begun, _made(begun))
    except Cancelled:
        for file in begun:
            file.set_cancelled()
    except MasteringError as error:
        _refuse(begun, str(error))
    except OSError as error:
        _refuse(begun, not_written(error))
    except Exception:
        logger.exception("Making files %s", file_ids)
        _refuse(begun, Said("sermovox-stumbled-over-section-recording"))
    for file in begun:
        if not file.is_made:
            shutil.rmtree(file.folder, ignore_errors=True)


def _record(files: list[FinishedFile], results: list[Made | MasteringError]) -> None:
    for file, made in zip(files, results, strict=True):
        if isinstance(made, MasteringError):
            file.set_refused(str(made))
            continue
        with file.path.open("rb") as content:
            sha256 = hashlib.file_digest(content, "sha256").hexdigest()
        caches.seal(file.waveform_path)
        file.set_made(made, sha256)
        file.delivery.hold_together()


def _refuse(files: list[FinishedFile], reason: str) -> None:
    for file in files:
        if not file.is_made:
            file.set_refused(reason)


@task()
def draw_file(file_id: int) -> None:
    """Draw the waveform of a finished file again."""
    file = FinishedFile.objects.filter(pk=file_id).first()
    if file is None or not file.is_made or not file.path.exists():
        return
    with caches.making(file.waveform_path) as path:
        writer = WaveformWriter(path)
        with Reader(file.path) as reader:
            for block in reader.blocks():
                writer.add(block)
        writer.close()


def _made(files: list[FinishedFile]) -> list[Made | MasteringError]:
    """Make the files of one section; they sound from the same."""
    first = files[0]
    recording = first.recording
    if first.programme is None and (recording is None or not recording.ready):
        reason = recording.refusal if recording else ""
        raise MasteringError(Said("section-no-recording-can-used", reason=reason).strip())
    together, told_at = FinishedFile.objects.filter(pk__in=[file.pk for file in files]), 0.0

    def stages(stage: str, share: float) -> None:
        nonlocal told_at
        if time.monotonic() - told_at > _PROGRESS_EVERY_S:
            told_at = time.monotonic()
            if together.tell_progress(stage, share):
                raise Cancelled(Said("cancelled-sentence"))

    soundings = Soundings(first.delivery.production)
    sounding = soundings.settled_before(first.sound)
    with prove_recordings(sounding.hashes, since=first.delivery.created_at) as proven:
        orders, at = [], []
        results: dict[int, Made | MasteringError] = {}
        for number, file in enumerate(files):
            try:
                orders.append(_order(file, sounding, soundings, stages, proven))
                at.append(number)
            except (BadTag, CannotMake) as error:
                results[number] = error
        if orders:
            member = Member(sounding, first.delivery.outlet)
            made = make_all(
                member.whole,
                orders,
                content_kind=first.content_kind,
                treatment=member.treatment,
                recordings=sounding.slips,
                stages=stages,
            )
            results |= dict(zip(at, made, strict=True))
    return [results[number] for number in range(len(files))]


def _order(
    file: FinishedFile, sounding: Sounding, soundings: Soundings, stages: Stages, proven: Callable[[], None]
) -> Order:
    outlet = file.delivery.outlet
    inscription, texts, broadcast = restored(file.said or said_now(file), outlet)
    member = Member(sounding, outlet)
    plan = None
    if member.treatment.together or outlet.compares_files:
        # Runs that an earlier version began did not keep what their files are levelled beside.
        kept = [soundings.settled_before(values) for values in file.delivery.members]
        others = beside(member, kept or soundings.of(soundings.sections, outlet))
        plan = plan_beside(member, others, outlet, lambda share: stages(Said("measuring-other-sections"), 0.0))
    return Order(
        outlet=outlet,
        target=file.path,
        name=file.name,
        measured=member.measurement,
        plan=plan,
        inscription=inscription,
        broadcast=broadcast,
        texts=texts | {"names": file.name},
        waveform=file.waveform_path,
        proven=proven,
    )
