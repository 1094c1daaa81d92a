"""What can be done to a page: each edit is one change that can be undone, or nothing."""

from collections.abc import Callable, Sequence

from django.db.models import Q
from django.db.models.expressions import RawSQL

from mastering.audio.reader import clock
from mastering.editing import markup
from mastering.editing.assembly import Stretch, as_list
from mastering.editing.labels import Label
from mastering.editing.markup import (
    FADE_IN,
    FADE_OUT,
    GAIN,
    PICKUP,
    POINT,
    QUIETER,
    STRIKE,
    TONE,
    Mark,
)
from mastering.editing.pauses import shortened
from mastering.editing.programme import BadCut, Span, check_span
from mastering.meters.speech import matching_gain
from sermovox.cutting.models import Page, measurement_of, pauses_of
from sermovox.cutting.programmes import refresh_lengths
from sermovox.productions import order
from sermovox.productions.models import Section

_WORDS = {
    STRIKE: "Strike out",
    TONE: "Room tone over",
    GAIN: "Gain of",
    QUIETER: "Lower the noise of",
    FADE_IN: "Fade in",
    FADE_OUT: "Fade out",
    POINT: "Mark",
    PICKUP: "Pickup for",
}
_AROUND_S = 8.0
"""How much of the surroundings on each side a pickup is matched to."""
_LONGEST_OFFSET_S = 24 * 3600.0
MOST_SECTIONS = 2000


def do(page: Page, user, op: str, values: dict) -> str:
    """Do one edit as one change. Returns what was done, in words; raises BadCut, and nothing is done."""
    edit = _EDITS.get(op)
    if edit is None:
        raise BadCut("There is no such edit.")
    with order.changing(page.production, user, "Change the page", pages=[page]) as change:
        before = page.marks, page.facts
        change.words = edit(page, values)
        touched = [section for section, _, _ in sections_on(page)]
        if (page.marks, page.facts) != before:
            touched = _touched(page, before)
        refresh_lengths(page.production, touched)
    return change.words


def sections_on(page: Page) -> list[tuple[Section, int, Stretch]]:
    """The sections that this page's recording is in, each with the number of the stretch and the stretch, by time."""
    key = page.recording_id
    inside = RawSQL(
        "SELECT section.id FROM productions_section AS section, json_each(section.programme) AS piece"
        " WHERE section.production_id = %s AND json_extract(piece.value, '$.recording') = %s",
        (page.production_id, str(key)),
    )
    found = []
    sections = page.production.sections.filter(Q(recording=key) | Q(pk__in=inside)).defer("script")
    for section in sections:
        if section.recording_id == key:
            section.recording = page.recording
        for at, stretch in enumerate(section.stretches()):
            if stretch.recording == str(key):
                found.append((section, at, stretch))
    return sorted(found, key=lambda each: (each[2].start_sample, each[2].end_sample, each[0].position))


def _mark(page: Page, values: dict) -> str:
    mark = Mark(
        id=0,
        kind=str(values.get("kind", "")),
        start_sample=_sample(values, "start"),
        end_sample=_sample(values, "end"),
        name=_text(values, "name"),
        value_db=_number(values, "value_db", 0.0),
    )
    if mark.kind == PICKUP:
        raise BadCut("A pickup says which recording it comes from.")
    if mark.kind in (TONE, QUIETER):
        _want_tone(page)
    page.set_marks(markup.set_mark(page.mark_list, mark, length_samples=page.recording.frames))
    return f"{_WORDS[mark.kind]} {_stretch_words(page, mark.start_sample, mark.end_sample)}"


def _marks(page: Page, values: dict) -> str:
    """Strike out many stretches at once, those of retakes."""
    spans = values.get("spans")
    if not isinstance(spans, list) or not spans:
        raise BadCut("Nothing was chosen to be struck out.")
    strikes = []
    for span in spans:
        if not isinstance(span, list) or len(span) != 2:
            raise BadCut("A stretch has a start and an end.")
        ends = {"start": span[0], "end": span[1]}
        strikes.append(Mark(id=0, kind=STRIKE, start_sample=_sample(ends, "start"), end_sample=_sample(ends, "end")))
    page.set_marks(markup.set_marks(page.mark_list, strikes, length_samples=page.recording.frames))
    return f"Strike out {len(strikes)} stretches"


def _restore(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    marks = markup.cleared(page.mark_list, start, end)
    if marks is page.mark_list or len(marks) == len(page.marks) and markup.as_list(marks) == page.marks:
        raise BadCut("Nothing is marked there.")
    page.set_marks(marks)
    return f"Restore {_stretch_words(page, start, end)}"


def _remove(page: Page, values: dict) -> str:
    key = _sample(values, "id")
    mark = next((mark for mark in page.mark_list if mark.id == key), None)
    if mark is None:
        raise BadCut("This mark is no longer there.")
    page.set_marks(markup.without(page.mark_list, [key]))
    return f"Take away “{mark.name or _WORDS[mark.kind].lower()}” at {_clock(page, mark.start_sample)}"


def _move(page: Page, values: dict) -> str:
    start, end = _sample(values, "start"), _sample(values, "end")
    page.set_marks(
        markup.moved(page.mark_list, _sample(values, "id"), start, end, length_samples=page.recording.frames)
    )
    return f"Move a mark to {_stretch_words(page, start, end)}"


def _keep(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    around = [(s.start_sample, s.end_sample) for _, _, s in sections_on(page)]
    within = next((each for each in around if each[0] <= start and end <= each[1]), (0, page.recording.frames))
    page.set_marks(markup.kept_only(page.mark_list, start, end, within=within))
    return f"Keep only {_stretch_words(page, start, end)}"


def _shorten(page: Page, values: dict) -> str:
    marks = dead_air(page, values)
    if not marks:
        raise BadCut("There is no such pause. Let shorter ones count.")
    page.set_marks(markup.set_marks(page.mark_list, marks, length_samples=page.recording.frames))
    return f"Shorten {sum(mark.kind == STRIKE for mark in marks)} pauses"


def dead_air(page: Page, values: dict) -> list[Mark]:
    """The marks that would shorten dead air, as `values` ask; those already struck out stay as they are."""
    pauses = pauses_of(page.recording, **pause_settings(values))
    marks = shortened(
        pauses,
        page.sample_rate_hz,
        longer_than_s=_number(values, "longer_than_s", 1.5),
        to_s=_number(values, "to_s", 0.7),
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
    shortest_s = _number(values, "shortest_s", 0.3)
    if not 0.2 <= shortest_s <= 30:
        raise BadCut("The shortest pause lasts 0.2 to 30 s.")
    level_db = None if level in (None, "") else _number(values, "level_db", 0.0)
    if level_db is not None and not -120 <= level_db <= 0:
        raise BadCut("The level of pauses lies between −120 and 0 dB.")
    return {"level_db": level_db, "shortest_s": round(shortest_s, 3)}


def _section(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    sections = _give(page, [(start, end)], from_end=bool(values.get("from_end")), titles=[_text(values, "name")])
    return f"Make “{sections[0].title}” of {_stretch_words(page, start, end)}"


def _break(page: Page, values: dict) -> str:
    at = _sample(values, "at")
    sections = _cut_at(page, [at], from_end=bool(values.get("from_end")))
    return f"Begin “{sections[-1].title}” at {_clock(page, at)}"


def _split(page: Page, values: dict) -> str:
    cuts = values.get("cuts")
    if not isinstance(cuts, list) or not cuts:
        raise BadCut("There is no place to cut at. Let shorter pauses count, or expect fewer sections.")
    if len(cuts) > MOST_SECTIONS:
        raise BadCut(f"These would be more than {MOST_SECTIONS} sections. Let only longer pauses count.")
    found = _cut_at(page, [_sample({"at": cut}, "at") for cut in cuts], from_end=bool(values.get("from_end")))
    return f"Cut into {len(found)} sections"


def _edge(page: Page, values: dict) -> str:
    """Move where a section begins or ends; where another begins or ends there, that moves along."""
    key, at, edge = _sample(values, "section"), _sample(values, "at"), values.get("edge")
    stretch_at = _sample(values, "stretch") if "stretch" in values else 0
    found = sections_on(page)
    own = next((each for each in found if each[0].pk == key and each[1] == stretch_at), None)
    if own is None or edge not in ("start", "end"):
        raise BadCut("This section is no longer on the page.")
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
        taken = [s for other, _, s in found if other.pk not in {m[0].pk for m in moves} and _in_the_way(other, moving)]
        if clash := next((s for s in taken if _overlap(s, (start, end))), None):
            raise BadCut(f"There another section begins, at {_clock(page, clash.start_sample)}. Move that first.")
        _replace(moving, place, Stretch(**_row(its) | {"start_sample": start, "end_sample": end}))
    return f"Move the {edge} of “{section.title}” to {_clock(page, at)}"


def _unsection(page: Page, values: dict) -> str:
    """Take the stretch away from a section; the section stays in the running order and waits."""
    key = _sample(values, "section")
    own = [each for each in sections_on(page) if each[0].pk == key]
    if not own:
        raise BadCut("This section is no longer on the page.")
    section = own[0][0]
    section.set_programme([s for s in section.stretches() if s.recording != str(page.recording_id)])
    section.save(update_fields=["programme", "recording"])
    return f"Take its stretch from “{section.title}”"


def _pickup(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    other = page.production.recordings.filter(pk=_sample(values, "recording")).first()
    if other is None or not other.ready:
        raise BadCut("The recording of the pickup is not there, or cannot be used yet.")
    if other.pk == page.recording_id and not values.get("to"):
        raise BadCut("Say which stretch of this recording the pickup is.")
    rate_hz = other.figures["sample_rate_hz"]
    first, last = _number(values, "from_s", 0.0), _number(values, "to_s", 0.0)
    span = (round(first * rate_hz), round(last * rate_hz) if last else other.frames)
    check_span(Span("", *span), other.frames)
    own, theirs = measurement_of(page.recording).levels.envelope, measurement_of(other).levels.envelope
    start_s, end_s = start / page.sample_rate_hz, end / page.sample_rate_hz
    around = [(own, max(0.0, start_s - _AROUND_S), start_s), (own, end_s, end_s + _AROUND_S)]
    gain_db = _number(values, "value_db", 0.0) if values.get("value_db") not in (None, "") else None
    if gain_db is None:
        gain_db = matching_gain(around, (theirs, span[0] / rate_hz, span[1] / rate_hz))
    mark = Mark(
        id=0,
        kind=PICKUP,
        start_sample=start,
        end_sample=end,
        name=other.name,
        value_db=gain_db,
        recording=str(other.pk),
        from_sample=span[0],
        to_sample=span[1],
    )
    page.set_marks(markup.set_mark(page.mark_list, mark, length_samples=page.recording.frames))
    return f"Pickup from {other.name} for {_stretch_words(page, start, end)}"


def _tone_from(page: Page, values: dict) -> str:
    start, end = _span(page, values)
    if end - start < page.sample_rate_hz // 10:
        raise BadCut("Room tone is made from at least 0.1 s. Select a longer quiet stretch.")
    page.set_facts(tone=[start, min(end, start + 10 * page.sample_rate_hz)])
    return f"Take room tone from {_clock(page, start)}"


def _lane_add(page: Page, values: dict) -> str:
    other = page.production.recordings.filter(pk=_sample(values, "recording")).first()
    if other is None or not other.ready:
        raise BadCut("This recording is not there, or cannot be used yet.")
    if other.pk == page.recording_id or other.pk in {lane["recording"] for lane in page.lanes}:
        raise BadCut("This voice is on the page already.")
    if other.figures["sample_rate_hz"] != page.sample_rate_hz:
        raise BadCut(
            f"{other.name} has {other.figures['sample_rate_hz']} Hz and this recording {page.sample_rate_hz} Hz. "
            "Voices that sound together have to be of one sample rate: export one of them again."
        )
    lane = {"recording": other.pk, "offset_samples": _offset(page, values), "gain_db": 0.0}
    page.set_facts(lanes=[*page.lanes, lane])
    return f"Put {other.name} beside it"


def _lane_set(page: Page, values: dict) -> str:
    lanes = [dict(lane) for lane in page.lanes]
    lane = next((lane for lane in lanes if lane["recording"] == _sample(values, "recording")), None)
    if lane is None:
        raise BadCut("This voice is no longer on the page.")
    lane["offset_samples"] = _offset(page, values)
    gain_db = _number(values, "gain_db", 0.0)
    if not -markup.MOST_GAIN_DB <= gain_db <= markup.MOST_GAIN_DB:
        raise BadCut(f"A gain lies between -{markup.MOST_GAIN_DB:g} and +{markup.MOST_GAIN_DB:g} dB.")
    lane["gain_db"] = gain_db
    page.set_facts(lanes=lanes)
    return "Set how a voice sounds beside the first"


def _lane_remove(page: Page, values: dict) -> str:
    key = _sample(values, "recording")
    page.set_facts(lanes=[lane for lane in page.lanes if lane["recording"] != key])
    return "Take a voice away"


def _lanes_match(page: Page, values: dict) -> str:
    """Bring every voice to the level of the first."""
    own = measurement_of(page.recording).levels.envelope
    whole_s = len(own)
    lanes = []
    for lane in page.lanes:
        other = page.production.recordings.filter(pk=lane["recording"]).first()
        if other is None:
            raise BadCut("A voice is no longer there. Take it away first.")
        theirs = measurement_of(other).levels.envelope
        lanes.append(lane | {"gain_db": matching_gain([(own, 0, whole_s)], (theirs, 0, len(theirs)))})
    page.set_facts(lanes=lanes)
    return "Bring the voices to one level"


def _separate(page: Page, values: dict) -> str:
    page.set_facts(separate=bool(values.get("separate")))
    return "Give each voice a file of its own" if values.get("separate") else "Deliver the voices as one mix"


def bring_in_marks(page: Page, user, labels: Sequence[Label], *, as_sections: bool) -> str:
    """Make marks or sections of labels that were read from a file, all or none. Returns what was done."""
    rate_hz, frames = page.sample_rate_hz, page.recording.frames
    spans = [(round(each.start_s * rate_hz), min(frames, round(each.end_s * rate_hz))) for each in labels]
    with order.changing(page.production, user, f"Bring in {len(labels)} marks", pages=[page]):
        if as_sections:
            # A place without a length runs to the next, the last to the end.
            following = [start for start, _ in spans[1:]] + [frames]
            spans = [
                (start, end if end > start else until) for (start, end), until in zip(spans, following, strict=True)
            ]
            made = _give(page, spans, from_end=False, titles=[label.name for label in labels])
            refresh_lengths(page.production, made)
            return f"{len(made)} sections are made."
        points = [
            Mark(id=0, kind=POINT, start_sample=start, end_sample=end, name=label.name)
            for (start, end), label in zip(spans, labels, strict=True)
        ]
        page.set_marks(markup.set_marks(page.mark_list, points, length_samples=frames))
        return f"{len(points)} marks are on the page."


def _cut_at(page: Page, cuts: Sequence[int], *, from_end: bool) -> list[Section]:
    """Cut the sections of the page at these samples, or the whole recording where there are none yet.

    Returns the sections that come of it, by time. The first part stays with its section, the others go to sections
    that wait, in order, or new ones; from the end, the other way round.
    """
    frames = page.recording.frames
    found = sections_on(page)
    plain = [each for each in found if each[0].role != Section.Role.SAMPLE]
    spans, owners = [], []
    wanted = sorted(set(cuts))
    for cut in wanted:
        if not 0 < cut < frames:
            raise BadCut("A section cannot begin there: it lies at the very end, or outside the recording.")
    covered: set[int] = set()
    for owner in plain or [None]:
        start, end = (owner[2].start_sample, owner[2].end_sample) if owner else (0, frames)
        inside = [cut for cut in wanted if start < cut < end and cut not in covered]
        covered.update(inside)
        if not inside:
            continue
        edges = [start, *inside, end]
        parts = list(zip(edges, edges[1:], strict=False))
        if owner and len(owner[0].stretches()) > 1:
            raise BadCut(f"“{owner[0].title}” is put together of several pieces. Cut it on its own screen.")
        if owner:
            stays = len(parts) - 1 if from_end else 0
            _replace(owner[0], owner[1], Stretch(**_row(owner[2]) | dict(zip(_ENDS, parts[stays], strict=True))))
            owners.append((parts[stays], owner[0]))
            parts = [part for at, part in enumerate(parts) if at != stays]
        spans += parts
    for cut in wanted:
        # Where nothing is a section yet, one begins and runs to the next.
        if cut not in covered and not any(s.start_sample == cut for _, _, s in plain):
            later = [s.start_sample for _, _, s in plain if s.start_sample > cut]
            spans.append((cut, min(later, default=frames)))
            covered.add(cut)
    if not spans:
        raise BadCut("A section begins there already.")
    made = _give(page, spans, from_end=from_end, titles=[])
    both = [*owners, *zip(spans, made, strict=True)]
    return [section for _, section in sorted(both, key=lambda each: each[0])]


_ENDS = ("start_sample", "end_sample")


def _give(page: Page, spans: Sequence[tuple[int, int]], *, from_end: bool, titles: Sequence[str]) -> list[Section]:
    """Give stretches to sections that wait, in order, or to new ones. Returns the section of each."""
    frames = page.recording.frames
    for span in spans:
        check_span(Span("", *span), frames)
    ordered = sorted(range(len(spans)), key=lambda at: spans[at])
    for one, other in zip(ordered, ordered[1:], strict=False):
        if spans[other][0] < spans[one][1]:
            raise BadCut(f"Two of these sections overlap at {_clock(page, spans[other][0])}. Nothing was made of them.")
    found = [each for each in sections_on(page) if each[0].role != Section.Role.SAMPLE]
    # A recording that came in alone is one section; the first stretch takes its place.
    alone = [each for each in found if not each[0].programme and len(found) == 1]
    placeholder = alone[0][0] if alone and not any(span == (0, frames) for span in spans) else None
    waiting = list(page.production.sections.filter(recording=None, programme=[]).defer("script"))
    samples = [section for section in waiting if section.role == Section.Role.SAMPLE]
    waiting = [section for section in waiting if section.role != Section.Role.SAMPLE]
    for span in [] if placeholder else spans:
        clash = next((each for each in found if _overlap(each[2], span)), None)
        if clash and samples and len(spans) == 1:
            # A sample is taken from what belongs to another section.
            return _written(page, [(span, samples[0])], titles)
        if clash:
            raise BadCut(
                f"This overlaps “{clash[0].title}”, which runs from {_clock(page, clash[2].start_sample)} to "
                f"{_clock(page, clash[2].end_sample)}. Choose a stretch beside it, or move its edge."
            )
    start, end = spans[ordered[0]][0], spans[ordered[-1]][1]
    before = [each[0] for each in found if each[2].end_sample <= start]
    after = [each[0] for each in found if each[2].start_sample >= end]
    if placeholder:
        waiting = [placeholder, *(w for w in waiting if w.position > placeholder.position)]
    elif from_end and after:
        waiting = [w for w in waiting if w.position < after[0].position]
    elif before:
        waiting = [w for w in waiting if w.position > before[-1].position]
    chosen = waiting[max(0, len(waiting) - len(spans)) :] if from_end else waiting[: len(spans)]
    missing = len(spans) - len(chosen)
    if missing:
        beginning = page.production.sections.count()
        names = [f"Section {beginning + at}" for at in range(1, missing + 1)]
        if from_end and chosen:
            earlier = page.production.sections.filter(position__lt=chosen[0].position).last()
            new = order.insert(page.production, earlier.pk if earlier else None, names)
            chosen = [*new, *chosen]
        else:
            anchor = chosen[-1] if chosen else before[-1] if before else None
            chosen = [*chosen, *order.insert(page.production, anchor.pk if anchor else None, names)]
    given = dict(zip(ordered, chosen, strict=True))
    return _written(page, [(span, given[at]) for at, span in enumerate(spans)], titles)


def _overlap(stretch: Stretch, span: tuple[int, int]) -> bool:
    return stretch.start_sample < span[1] and span[0] < stretch.end_sample


def _written(page: Page, given: Sequence[tuple[tuple[int, int], Section]], titles: Sequence[str]) -> list[Section]:
    """Write which stretch each section has, and the titles that came with them. Returns the sections."""
    rows = []
    for at, ((start, end), section) in enumerate(given):
        whole = (start, end) == (0, page.recording.frames)
        stretch = Stretch(recording=str(page.recording_id), start_sample=start, end_sample=end)
        section.programme, section.recording = [] if whole else as_list([stretch]), page.recording
        row = {"pk": section.pk, "programme": section.programme, "recording_id": page.recording_id}
        if at < len(titles) and titles[at]:
            row["title"] = section.title = titles[at][:200]
        rows.append(row)
    order.write(page.production, rows)
    return [section for _, section in given]


def _replace(section: Section, number: int, stretch: Stretch) -> None:
    stretches = list(section.stretches())
    stretches[number] = stretch
    section.set_programme(stretches)
    section.save(update_fields=["programme", "recording"])


def _row(stretch: Stretch) -> dict:
    return as_list([stretch])[0]


def _in_the_way(other: Section, moving: Section) -> bool:
    return Section.Role.SAMPLE not in (other.role, moving.role)


def _touched(page: Page, before: tuple[list, dict]) -> list[Section]:
    """The sections that sound otherwise after a change of marks or facts."""
    found = sections_on(page)
    if page.facts != before[1]:
        return [section for section, _, _ in found]
    was, now = ({row["id"]: row for row in rows} for rows in (before[0], page.marks))
    changed = [row for key in was | now if was.get(key) != now.get(key) for row in (was.get(key), now.get(key)) if row]
    if not changed:
        return []
    start, end = min(row["start_sample"] for row in changed), max(row["end_sample"] for row in changed)
    return [section for section, _, s in found if _overlap(s, (start, end))]


def _want_tone(page: Page) -> None:
    if page.tone is None:
        raise BadCut("This recording is digital silence where nobody speaks: there is no room tone in it to use.")


def _span(page: Page, values: dict) -> tuple[int, int]:
    start, end = _sample(values, "start"), _sample(values, "end")
    check_span(Span("", start, end), page.recording.frames)
    return start, end


def _sample(values: dict, name: str) -> int:
    value = values.get(name)
    if isinstance(value, bool) or not isinstance(value, int) or abs(value) > 1 << 52:
        raise BadCut("The page sent something that is no position. Load it anew.")
    return value


def _number(values: dict, name: str, default: float) -> float:
    try:
        number = float(values.get(name, default))
    except (TypeError, ValueError):
        number = float("nan")
    if not abs(number) < 1e9:
        raise BadCut("The page sent something that is no number. Load it anew.")
    return number


def _offset(page: Page, values: dict) -> int:
    offset_s = _number(values, "offset_s", 0.0)
    if abs(offset_s) > _LONGEST_OFFSET_S:
        raise BadCut("A voice can begin a day later at most.")
    return round(offset_s * page.sample_rate_hz)


def _text(values: dict, name: str) -> str:
    return " ".join(str(values.get(name) or "").split())[:200]


def _clock(page: Page, sample: int) -> str:
    return clock(sample / page.sample_rate_hz)


def _stretch_words(page: Page, start: int, end: int) -> str:
    length_s = (end - start) / page.sample_rate_hz
    return f"{length_s:.2f} s at {_clock(page, start)}" if end > start else f"the place {_clock(page, start)}"


_EDITS: dict[str, Callable[[Page, dict], str]] = {
    "mark": _mark,
    "marks": _marks,
    "restore": _restore,
    "remove": _remove,
    "move": _move,
    "keep": _keep,
    "shorten": _shorten,
    "section": _section,
    "break": _break,
    "split": _split,
    "edge": _edge,
    "unsection": _unsection,
    "pickup": _pickup,
    "tone-from": _tone_from,
    "lane-add": _lane_add,
    "lane-set": _lane_set,
    "lane-remove": _lane_remove,
    "lanes-match": _lanes_match,
    "separate": _separate,
}
