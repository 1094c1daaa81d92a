"""What is to be read again in a production, and the take in which it was: each sentence put where it belongs."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from django.db import transaction

from mastering.editing import markup
from mastering.editing.markkinds import PICKUP, Mark
from mastering.editing.pieces import BadCut
from mastering.said import Said
from mastering.words.hearing import HeardScript
from mastering.words.proof import LineSpan, readings_that_count, with_room
from mastering.words.readings import Reading
from sermovox.cutting.edits import pickup_mark, take_out_rows_of
from sermovox.cutting.models import Page, pauses_of
from sermovox.cutting.sectioning import touched_by
from sermovox.cutting.texts import Words, script_of, sentences_in, text_of
from sermovox.history.changing import changing
from sermovox.productions.models import Production
from sermovox.productions.order import refresh_lengths
from sermovox.proofing.sheet import PUT_IN, WANTED, Row, Sheet
from sermovox.recordings.models import Recording
from sermovox.scripts.models import Script, tag_of

_INSERTED_S = 0.02
"""Where nothing is replaced, so much of a pause gives way."""
_BREATH_S = 0.35


@dataclass(frozen=True)
class Pickup:
    """A sentence to be read again: where it belongs, and what there is in its place."""

    page: Page
    row: Row


@dataclass(frozen=True)
class Placed:
    """A sentence of the take: where it was read, seconds, and what it replaces; what is in its way, in a sentence."""

    pickup: Pickup
    taken_s: tuple[float, float] | None
    place: tuple[int, int] | None
    problem: str = ""

    def taken_samples(self, rate_hz: int) -> tuple[int, int]:
        """Where it was read, in samples of the take; nothing where it was not."""
        start_s, end_s = self.taken_s or (0.0, 0.0)
        return round(start_s * rate_hz), round(end_s * rate_hz)


def pickups_of(production: Production) -> list[Pickup]:
    """Everything that is to be read again, by recording and time."""
    found = []
    for page in production.pages.select_related("recording").order_by("recording__name", "pk"):
        if page.recording.ready and any(row.get("as") == WANTED for row in page.proof.values()):
            found += [Pickup(page, row) for row in Sheet(page).rows() if row.settled == WANTED and row.sentence]
    return found


def give_sentences(page: Page, user, pickups: Sequence[Pickup]) -> None:
    """Give the page of the take the sentences as its text, unless it has just these."""
    lines = "\n".join(" ".join(each.row.sentence.split()) for each in pickups)
    script = script_of(page)
    if script and script.text == lines:
        return
    production = page.production
    language = _language_of(pickups) or tag_of(production.language)
    if not language:
        raise BadCut(Said("language-production-none-whose-words-can"))
    script = Script.objects.create(production=production, name=Said("pickups"), text=lines, language=language)
    with changing(production, user, Said("give-take-pickups-text"), beside=[page]):
        page.set_facts(script=script.pk)


def placed(take: Page, pickups: Sequence[Pickup]) -> list[Placed]:
    """Where each sentence was read in the take, and what it would replace. Raises BadCut while that is not known."""
    heard = Words(take).certainly_heard
    # One line may be several sentences of the take.
    lines, at = [], 0
    for each in pickups:
        count = len(sentences_in(" ".join(each.row.sentence.split())))
        lines.append(range(at, at + count))
        at += count
    counted = readings_that_count(heard)
    targets = {each.page.pk: _Target(each.page) for each in pickups}
    return [
        _placed(heard, counted, line, each, targets[each.page.pk]) for line, each in zip(lines, pickups, strict=True)
    ]


class _Target:
    """A page that sentences go to: what is read on it, read once, and the places that are taken."""

    def __init__(self, page: Page):
        self.page = page
        words = Words(page)
        self.lines = words.heard.lines if words.heard else ()
        self.counted = readings_that_count(words.remaining) if words.heard else []
        self._pickups = [(mark.start_sample, mark.end_sample) for mark in page.mark_list if mark.kind == PICKUP]

    def inserted(self, at_s: float) -> tuple[int, int]:
        """A place in the middle of the pause at a time, behind all that is put in there already, samples."""
        rate_hz, frames = self.page.sample_rate_hz, self.page.recording.frames
        width = max(2, round(_INSERTED_S * rate_hz))
        start = max(0, _middle_of_pause(self.page, at_s) - width // 2)
        for first, last in sorted(self._pickups):
            if first < start + width and start < last:
                start = last
        place = min(start, frames - width), min(start + width, frames)
        self._pickups.append(place)
        return place


def _placed(
    heard: HeardScript, counted: Sequence[Reading | None], line: range, pickup: Pickup, target: _Target
) -> Placed:
    readings = [counted[at] for at in line]
    if not all(readings):
        return Placed(pickup, None, None, Said("not-read-take"))
    own = [reading for reading in readings if reading]
    if not all(reading.whole for reading in own):
        return Placed(pickup, None, None, Said("not-read-end-take"))
    span = LineSpan(own[0].start_s, own[-1].end_s, True)
    at, reading = pickup.row.line, None
    if target.lines and at is not None:
        if at >= len(target.lines) or target.lines[at] != pickup.row.sentence:
            return Placed(pickup, None, None, Said("text-changed-since-settle-proof"))
        reading = target.counted[at]
    if reading:
        rate_hz, frames = target.page.sample_rate_hz, target.page.recording.frames
        place = (round(reading.start_s * rate_hz), min(frames, round(reading.end_s * rate_hz)))
        return Placed(pickup, (span.start_s, span.end_s), place)
    # Nothing is replaced: it comes into the pause, with the quiet that the take has around it.
    return Placed(pickup, with_room(heard, span, room_s=_BREATH_S), target.inserted(pickup.row.end_s))


def _middle_of_pause(page: Page, at_s: float) -> int:
    """The middle of the pause at a time, or of the next one."""
    pauses = pauses_of(page.recording)
    for start_s, end_s in zip(pauses.starts_s, pauses.ends_s, strict=True):
        if end_s > at_s + 0.05:
            return round((max(start_s, 0.0) + end_s) / 2 * page.sample_rate_hz)
    return min(page.recording.frames, round(at_s * page.sample_rate_hz))


def put_in(production: Production, user, take: Recording, wanted: Sequence[Placed]) -> int:
    """Put sentences of a take where they belong, as one change. Returns how many; raises MasteringError, and nothing is
    done.
    """
    if not wanted:
        raise BadCut(Said("none-sentences-chosen"))
    rate_hz = take.rate_hz
    with transaction.atomic():
        pages = {each.pickup.page.pk: each.pickup.page.looked_at_again() for each in wanted}
        words = Said("put-pickups", count=len(wanted))
        with changing(production, user, words, beside=list(pages.values())):
            for page in pages.values():
                before = page.marks, page.facts
                own = [each for each in wanted if each.pickup.page.pk == page.pk]
                marks = [_mark(page, each, take, rate_hz) for each in own]
                page.set_marks(markup.set_marks(page.mark_list, marks, length_samples=page.recording.frames))
                page.set_proof(
                    {
                        each.pickup.row.key: each.pickup.row.kept(PUT_IN) | {"at": mark.start_sample}
                        for each, mark in zip(own, marks, strict=True)
                    }
                )
                refresh_lengths(production, touched_by(page, before))
            take_out_rows_of(take)
    return len(wanted)


def _mark(page: Page, each: Placed, take: Recording, rate_hz: int) -> Mark:
    if each.taken_s is None or each.place is None:
        raise BadCut(each.problem)
    start, end = each.taken_samples(rate_hz)
    span = (start, min(take.frames, end))
    sentence = each.pickup.row.sentence
    return replace(pickup_mark(page, each.place, take, span), name=sentence[:60] or take.name)


def _language_of(pickups: Sequence[Pickup]) -> str:
    texts = (text_of(each.page) for each in pickups)
    return next((text.language for text in texts if text and text.language), "")
