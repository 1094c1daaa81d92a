"""What can be done to a page: each edit is one change that can be undone, or nothing."""

from collections.abc import Callable, Sequence
from dataclasses import replace

from django.db import transaction

from mastering.editing import markkinds, markup
from mastering.editing.labels import Label, stretches_between
from mastering.editing.markkinds import MARK_KINDS, PICKUP, POINT, STRIKE, TONE, Mark
from mastering.editing.pauses import shortened
from mastering.editing.pieces import BadCut, Span, check_span
from mastering.errors import MasteringError
from mastering.meters.envelope import CELLS_PER_SECOND
from mastering.meters.speech import matching_gain
from mastering.said import Said, together, within
from mastering.shaping.match import matching_gains
from sermovox.cutting.models import Page, measurement_of, pauses_of
from sermovox.cutting.oddities import oddity
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.sectioning import (
    clock_of,
    cut_at,
    give,
    in_the_way,
    overlap,
    parts_of,
    replace_stretch,
    sections_on,
    touched_by,
)
from sermovox.history.changing import changing
from sermovox.history.commands import Commands
from sermovox.productions import order
from sermovox.productions.models import Section
from sermovox.productions.order import refresh_lengths
from sermovox.recordings.models import Recording

_AROUND_S = 8.0
"""How much of the surroundings on each side a pickup is matched to."""
_LONGEST_OFFSET_S = 24 * 3600.0
MOST_SECTIONS = 2000


def do(page: Page, user, name: str, values: dict) -> str:
    """Do one edit as one change, or undo or redo one. Returns what was done, in a sentence; raises BadCut or
    NoSuchCommand, and nothing is done.
    """
    return commands.run(name, page.production, page, user, values)


def _as_one_change(edit: Callable[[Page, dict], str], page: Page, user, values: dict) -> str:
    with changing(page.production, user, Said("change-page"), beside=[page]) as change:
        before = page.marks, page.facts
        change.words = edit(page, values)
        if (page.marks, page.facts) != before:
            touched = touched_by(page, before)
        else:
            # Those that are new to a page without marks know their length already.
            unsure = page.production.sections.filter(length_s=None)
            touched = [s for s, _, _ in sections_on(page, None if page.is_marked else unsure)]
        refresh_lengths(page.production, touched)
    return f"{change.words}."


commands = Commands(within=_as_one_change)


@commands("mark")
def _mark(page: Page, values: dict) -> str:
    mark = Mark(
        id=0,
        kind=str(values.get("kind", "")),
        start_sample=whole_value(values, "start"),
        end_sample=whole_value(values, "end"),
        name=_text(values, "name"),
        value_db=number_value(values, "value_db", 0.0),
    )
    if mark.kind == PICKUP:
        raise BadCut(Said("pickup-says-which-recording-comes"))
    kind = MARK_KINDS.get(mark.kind)
    if kind and kind.wants_tone:
        _want_tone(page)
    page.set_marks(markup.set_mark(page.mark_list, mark, length_samples=page.recording.frames))
    return together([MARK_KINDS[mark.kind].words, _stretch_words(page, mark.start_sample, mark.end_sample)])


@commands("marks")
def _marks(page: Page, values: dict) -> str:
    """Strike out many stretches at once, those of retakes."""
    spans = values.get("spans")
    if not isinstance(spans, list) or not spans:
        raise BadCut(Said("nothing-chosen-struck-out"))
    strikes = []
    for span in spans:
        if not isinstance(span, list) or len(span) != 2:
            raise BadCut(Said("stretch-start-end"))
        ends = {"start": span[0], "end": span[1]}
        strikes.append(
            Mark(id=0, kind=STRIKE, start_sample=whole_value(ends, "start"), end_sample=whole_value(ends, "end"))
        )
    page.set_marks(markup.set_marks(page.mark_list, strikes, length_samples=page.recording.frames))
    return Said("strike-out-stretches", count=len(strikes))


@commands("restore")
def _restore(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    marks = markup.cleared(page.mark_list, start, end)
    if marks is page.mark_list or len(marks) == len(page.marks) and markup.as_list(marks) == page.marks:
        raise BadCut(Said("nothing-marked-there"))
    page.set_marks(marks)
    return Said("restore", stretch_words=_stretch_words(page, start, end))


@commands("remove")
def _remove(page: Page, values: dict) -> str:
    key = whole_value(values, "id")
    mark = next((mark for mark in page.mark_list if mark.id == key), None)
    if mark is None:
        raise BadCut(Said("mark-no-longer-there"))
    page.set_marks(markup.without(page.mark_list, [key]))
    return Said(
        "take-away", name=mark.name or within(MARK_KINDS[mark.kind].words), page=clock_of(page, mark.start_sample)
    )


@commands("move")
def _move(page: Page, values: dict) -> str:
    start, end = whole_value(values, "start"), whole_value(values, "end")
    page.set_marks(
        markup.moved(page.mark_list, whole_value(values, "id"), start, end, length_samples=page.recording.frames)
    )
    return Said("move-mark", stretch_words=_stretch_words(page, start, end))


@commands("keep")
def _keep(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    around = [(s.start_sample, s.end_sample) for _, _, s in sections_on(page)]
    within = next((each for each in around if each[0] <= start and end <= each[1]), (0, page.recording.frames))
    page.set_marks(markup.kept_only(page.mark_list, start, end, within=within))
    return Said("keep-only", stretch_words=_stretch_words(page, start, end))


@commands("shorten")
def _shorten(page: Page, values: dict) -> str:
    marks = dead_air(page, values)
    if not marks:
        raise BadCut(Said("there-no-such-pause-let"))
    page.set_marks(markup.set_marks(page.mark_list, marks, length_samples=page.recording.frames))
    return Said("shorten-pauses", marks=sum(mark.kind == STRIKE for mark in marks))


def dead_air(page: Page, values: dict) -> list[Mark]:
    """The marks that would shorten dead air, as `values` ask; those already struck out stay as they are."""
    pauses = pauses_of(page.recording, **pause_settings(values))
    marks = shortened(
        pauses,
        page.sample_rate_hz,
        longer_than_s=number_value(values, "longer_than_s", 1.5),
        to_s=number_value(values, "to_s", 0.7),
    )
    frames = page.recording.frames
    struck = [(m.start_sample, m.end_sample) for m in page.mark_list if m.kind == STRIKE]
    kept = []
    at = 0
    for mark in marks:
        end = min(mark.end_sample, frames)
        while at < len(struck) and struck[at][1] < mark.start_sample:
            at += 1
        if end > mark.start_sample and not (at < len(struck) and struck[at][0] < end):
            kept.append(Mark(id=0, kind=mark.kind, start_sample=mark.start_sample, end_sample=end))
    if any(mark.kind == TONE for mark in kept):
        _want_tone(page)
    return kept


def pause_settings(values: dict) -> dict:
    """Level and shortest length of pauses, from what a page sends."""
    level = values.get("level_db")
    shortest_s = number_value(values, "shortest_s", 0.3)
    if not 0.2 <= shortest_s <= 30:
        raise BadCut(Said("shortest-pause-lasts-0-2"))
    level_db = None if level in (None, "") else number_value(values, "level_db", 0.0)
    if level_db is not None and not -120 <= level_db <= 0:
        raise BadCut(Said("level-pauses-lies-between-120"))
    return {"level_db": level_db, "shortest_s": round(shortest_s, 3)}


@commands("section")
def _section(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    parts = parts_of(page, [(start, end)])
    sections = give(page, parts, from_end=bool(values.get("from_end")), titles=[_text(values, "name")])
    return Said("make", title=sections[0].title, stretch_words=_stretch_words(page, start, end))


@commands("break")
def _break(page: Page, values: dict) -> str:
    at = whole_value(values, "at")
    sections = cut_at(page, [at], from_end=bool(values.get("from_end")))
    return Said("begin", title=sections[-1].title, page=clock_of(page, at))


@commands("split")
def _split(page: Page, values: dict) -> str:
    cuts = values.get("cuts")
    if not isinstance(cuts, list) or not cuts:
        raise BadCut(Said("there-no-place-cut-let"))
    if len(cuts) > MOST_SECTIONS:
        raise BadCut(Said("these-would-more-than-sections-let", most_sections=MOST_SECTIONS))
    found = cut_at(page, [whole_value({"at": cut}, "at") for cut in cuts], from_end=bool(values.get("from_end")))
    return Said("cut-into-sections", count=len(found))


def strikes_s(page: Page) -> list[tuple[float, float]]:
    """What is struck out on a page, in order, seconds."""
    rate_hz = page.sample_rate_hz
    return [(m.start_sample / rate_hz, m.end_sample / rate_hz) for m in page.mark_list if m.kind == STRIKE]


def odd_sections(page: Page, cuts: list[int], *, from_end: bool) -> list[str]:
    """What would be odd about the sections that cuts make: those that keep next to nothing, or do not fit their text.

    The cuts are tried and taken back.
    """
    told: list[str] = []
    with transaction.atomic():
        tried = transaction.savepoint()
        try:
            found = cut_at(page, cuts, from_end=from_end)
            made = Assembly(page.production)
            for section in found:
                odd = oddity(made.length_s(section) or _kept_s(made, section), section.script)
                told += [Said("section-is-odd", title=section.title, odd=odd)] if odd else []
        finally:
            transaction.savepoint_rollback(tried)
    return told


def _kept_s(made: Assembly, section: Section) -> float:
    try:
        return made.seconds(section.stretches())
    except MasteringError:
        return 0.0


@commands("edge")
def _edge(page: Page, values: dict) -> str:
    """Move where a section begins or ends; where another begins or ends there, that moves along."""
    key, at, edge = whole_value(values, "section"), whole_value(values, "at"), values.get("edge")
    stretch_at = whole_value(values, "stretch") if "stretch" in values else 0
    found = sections_on(page)
    own = next((each for each in found if each[0].pk == key and each[1] == stretch_at), None)
    if own is None or edge not in ("start", "end"):
        raise BadCut(Said("section-no-longer-page"))
    section, number, stretch = own
    was = stretch.start_sample if edge == "start" else stretch.end_sample
    other_edge = "end" if edge == "start" else "start"
    moves = [(section, number, stretch, edge)]
    for each in found:
        if each[0].pk != key and getattr(each[2], f"{other_edge}_sample") == was:
            moves.append((*each, other_edge))
    for moving, place, its, which in moves:
        start, end = (at, its.end_sample) if which == "start" else (its.start_sample, at)
        check_span(Span("", start, end), page.recording.frames)
        taken = [s for other, _, s in found if other.pk not in {m[0].pk for m in moves} and in_the_way(other, moving)]
        if clash := next((s for s in taken if overlap(s, (start, end))), None):
            raise BadCut(Said("there-another-section-begins-move", page=clock_of(page, clash.start_sample)))
        replace_stretch(moving, place, replace(its, start_sample=start, end_sample=end))
    return Said("move", edge=edge, title=section.title, page=clock_of(page, at))


@commands("unsection")
def _unsection(page: Page, values: dict) -> str:
    """Take the stretch away from a section; the section stays in the running order and waits."""
    key = whole_value(values, "section")
    own = [each for each in sections_on(page) if each[0].pk == key]
    if not own:
        raise BadCut(Said("section-no-longer-page"))
    section = own[0][0]
    section.set_stretches([s for s in section.stretches() if s.recording != str(page.recording_id)])
    return Said("take-stretch-from", title=section.title)


@commands("pickup")
def _pickup(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    other = page.production.recordings.filter(pk=whole_value(values, "recording")).first()
    if other is None or not other.ready:
        raise BadCut(Said("recording-pickup-not-there-cannot"))
    if other.pk == page.recording_id and not values.get("to_s"):
        raise BadCut(Said("say-which-stretch-recording-pickup"))
    rate_hz = other.rate_hz
    first, last = number_value(values, "from_s", 0.0), number_value(values, "to_s", 0.0)
    span = (round(first * rate_hz), round(last * rate_hz) if last else other.frames)
    mark = pickup_mark(page, (start, end), other, span)
    page.set_marks(markup.set_mark(page.mark_list, mark, length_samples=page.recording.frames))
    return Said("pickup-from", name=other.name, stretch_words=_stretch_words(page, start, end))


def pickup_mark(page: Page, place: tuple[int, int], other: Recording, span: tuple[int, int]) -> Mark:
    """A stretch of another recording instead of a place on a page, at the level of what lies around it; each in samples
    of its own recording's rate. Raises BadCut or UnreadableRecording.
    """
    check_span(Span("", *span), other.frames)
    own, theirs = measurement_of(page.recording).levels.envelope, measurement_of(other).levels.envelope
    start_s, end_s = place[0] / page.sample_rate_hz, place[1] / page.sample_rate_hz
    around = [(own, max(0.0, start_s - _AROUND_S), start_s), (own, end_s, end_s + _AROUND_S)]
    rate_hz = other.rate_hz
    gain_db = matching_gain(around, (theirs, span[0] / rate_hz, span[1] / rate_hz))
    return Mark(
        id=0,
        kind=PICKUP,
        start_sample=place[0],
        end_sample=place[1],
        name=other.name,
        value_db=gain_db,
        recording=str(other.pk),
        from_sample=span[0],
        to_sample=span[1],
    )


@commands("tone-from")
def _tone_from(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    if end - start < page.sample_rate_hz // 10:
        raise BadCut(Said("room-tone-made-from-least"))
    page.set_facts(tone=[start, min(end, start + 10 * page.sample_rate_hz)])
    return Said("take-room-tone-from", page=clock_of(page, start))


@commands("lane-add")
def _lane_add(page: Page, values: dict) -> str:
    other = page.production.recordings.filter(pk=whole_value(values, "recording")).first()
    if other is None or not other.ready:
        raise BadCut(Said("recording-not-there-cannot-used"))
    if other.pk == page.recording_id or other.pk in {lane["recording"] for lane in page.lanes}:
        raise BadCut(Said("voice-page-already"))
    if other.rate_hz != page.sample_rate_hz:
        raise BadCut(
            Said(
                "hz-recording-hz-voices-sound",
                name=other.name,
                figures=other.figures["sample_rate_hz"],
                sample_rate_hz=page.sample_rate_hz,
            )
        )
    lane = {"recording": other.pk, "offset_samples": _offset(page, values), "gain_db": 0.0}
    page.set_facts(lanes=[*page.lanes, lane])
    take_out_rows_of(other)
    return Said("put-beside", name=other.name)


def take_out_rows_of(voice: Recording) -> None:
    """What sounds within another recording, beside it or in its place, is no row to be delivered: sections that are all
    of it alone go; undo brings them back.
    """
    production = voice.production
    alone = production.sections.whole_of(voice)
    if alone.exists():
        alone.update(removed=True)
        order.place(production, list(production.sections.values_list("pk", flat=True)))


@commands("lane-set")
def _lane_set(page: Page, values: dict) -> str:
    lanes = [dict(lane) for lane in page.lanes]
    lane = next((lane for lane in lanes if lane["recording"] == whole_value(values, "recording")), None)
    if lane is None:
        raise BadCut(Said("voice-no-longer-page"))
    lane["offset_samples"] = _offset(page, values)
    gain_db = number_value(values, "gain_db", 0.0)
    if not -markkinds.MOST_GAIN_DB <= gain_db <= markkinds.MOST_GAIN_DB:
        raise BadCut(Said("gain-lies-between-db", most_gain_db=markkinds.MOST_GAIN_DB))
    lane["gain_db"] = gain_db
    page.set_facts(lanes=lanes)
    return Said("set-how-voice-sounds-beside")


@commands("lane-remove")
def _lane_remove(page: Page, values: dict) -> str:
    key = whole_value(values, "recording")
    page.set_facts(lanes=[lane for lane in page.lanes if lane["recording"] != key])
    return Said("take-voice-away")


@commands("lanes-match")
def _lanes_match(page: Page, values: dict) -> str:
    """Bring every voice to the level of the first, each measured on its own speech."""
    tracks, names = [(measurement_of(page.recording).levels.envelope, 0)], []
    for lane in page.lanes:
        other = page.production.recordings.filter(pk=lane["recording"]).first()
        if other is None:
            raise BadCut(Said("voice-no-longer-there-take"))
        offset = round(lane["offset_samples"] * CELLS_PER_SECOND / page.sample_rate_hz)
        tracks.append((measurement_of(other).levels.envelope, offset))
        names.append(other.name)
    _, *gains_db = matching_gains(tracks)
    for name, gain_db in zip(names, gains_db, strict=True):
        if gain_db is None:
            raise BadCut(Said("holds-no-speech-own-go", name=name))
    page.set_facts(lanes=[lane | {"gain_db": gain_db} for lane, gain_db in zip(page.lanes, gains_db, strict=True)])
    return Said("bring-voices-one-level")


@commands("sides")
def _sides(page: Page, values: dict) -> str:
    """Take the two sides for two voices, in the middle and at one level, or for one recording as it came."""
    figures = page.recording.figures
    if figures.get("channels") != 2:
        raise BadCut(Said("recording-not-two-sides"))
    if not values.get("apart"):
        page.set_facts(sides=None)
        return Said("take-both-sides-one-recording")
    gain_db = number_value(values, "gain_db", figures.get("voices_apart_db") or 0.0)
    if not -markkinds.MOST_GAIN_DB <= gain_db <= markkinds.MOST_GAIN_DB:
        raise BadCut(Said("gain-lies-between-db", most_gain_db=markkinds.MOST_GAIN_DB))
    page.set_facts(sides={"gain_db": round(gain_db, 1)})
    return Said("bring-voices-both-sides-middle")


@commands("separate")
def _separate(page: Page, values: dict) -> str:
    page.set_facts(separate=bool(values.get("separate")))
    return Said("give-each-voice-file-own") if values.get("separate") else Said("deliver-voices-one-mix")


def bring_in_marks(page: Page, user, labels: Sequence[Label], *, as_sections: bool) -> str:
    """Make marks or sections of labels that were read from a file, all or none. Returns what was done."""
    rate_hz, frames = page.sample_rate_hz, page.recording.frames
    with changing(page.production, user, Said("bring-marks", count=len(labels)), beside=[page]):
        if as_sections:
            spans = stretches_between(labels, rate_hz, frames)
            made = give(page, parts_of(page, spans), from_end=False, titles=[label.name for label in labels])
            refresh_lengths(page.production, made)
            return Said("sections-made", count=len(made))
        points = [
            Mark(
                id=0,
                kind=POINT,
                start_sample=round(label.start_s * rate_hz),
                end_sample=min(frames, round(label.end_s * rate_hz)),
                name=label.name,
            )
            for label in labels
        ]
        page.set_marks(markup.set_marks(page.mark_list, points, length_samples=frames))
        return Said("marks-page", count=len(points))


def _want_tone(page: Page) -> None:
    if page.tone is None:
        raise BadCut(Said("recording-digital-silence-where-nobody"))


def _span(page: Page, values: dict) -> tuple[int, int]:
    start, end = whole_value(values, "start"), whole_value(values, "end")
    check_span(Span("", start, end), page.recording.frames)
    return start, end


def whole_value(values: dict, name: str) -> int:
    """A whole number a page sends. Raises BadCut for anything else."""
    value = values.get(name)
    if isinstance(value, bool) or not isinstance(value, int) or abs(value) > 1 << 52:
        raise BadCut(Said("page-sent-something-no-position"))
    return value


def number_value(values: dict, name: str, default: float) -> float:
    """A number a page sends. Raises BadCut for anything else."""
    try:
        number = float(values.get(name, default))
    except (TypeError, ValueError):
        number = float("nan")
    if not abs(number) < 1e9:
        raise BadCut(Said("page-sent-something-no-number"))
    return number


def _offset(page: Page, values: dict) -> int:
    offset_s = number_value(values, "offset_s", 0.0)
    if abs(offset_s) > _LONGEST_OFFSET_S:
        raise BadCut(Said("voice-can-begin-day-later"))
    return round(offset_s * page.sample_rate_hz)


def _text(values: dict, name: str) -> str:
    return " ".join(str(values.get(name) or "").split())[:200]


def _stretch_words(page: Page, start: int, end: int) -> str:
    length_s = (end - start) / page.sample_rate_hz
    return (
        Said("s", length_s=length_s, page=clock_of(page, start))
        if end > start
        else Said("the-place", page=clock_of(page, start))
    )
