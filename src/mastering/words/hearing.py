"""The front door: a recording and its script, and where each word of it was spoken."""

import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from itertools import chain, pairwise
from pathlib import Path
from typing import BinaryIO

import numpy as np

from mastering.audio.beside import Ahead
from mastering.audio.convert import resampled, to_channels
from mastering.audio.reader import Reader
from mastering.meters.decibels import db_of_power
from mastering.meters.envelope import Envelope
from mastering.meters.measurement import Progress, watched
from mastering.words.ears import Ear
from mastering.words.features import BANDS, FEATURES, ROWS_PER_SECOND, Voice, let_go, powers, powers_of_blocks
from mastering.words.following import Follower, Heard, Way
from mastering.words.learning import FIRST_MARGIN, doubt_of, first_ear, learned
from mastering.words.onsets import Room, pauses_of_voice, quiet_rows, share_of, speech_of
from mastering.words.readings import Reading, outside_of, readings_of
from mastering.words.spoken import RATE_HZ, SpokenLine, speak, words_of
from mastering.words.states import FULL_SCALE, States, states_of

WARPS = (0.87, 1.0, 1.15, 1.3)
_SAMPLE_ROWS = 8 * 60 * ROWS_PER_SECOND
"""From what lies at the beginning a voice is learned."""
_TRIED_ROWS = 90 * ROWS_PER_SECOND
_TRIED_S = 150
"""The first minute and a half, and what of the script may lie in it, tell which throat is nearest."""
_FIRST_TAUGHT = 0.5
_TIMES_LEARNED = 2
_CHUNK_ROWS = 1 << 14
_CONTEXT_ROWS = 2
"""What the change of a row is told from, on either side."""
_FAINTEST_SPOKEN = 1e-4
_DOUBTFUL = 0.3
_ANOTHER = 0.6
"""Where this share of what was said is in no script, the text is another."""
_SHARE_READ, _SHARE_SPOKEN, _SHARE_LEARNED = 0.3, 0.5, 0.6
_TOLD_ROWS, _TOLD_GROWS = 60 * ROWS_PER_SECOND, 1.4
"""What is known so far is told after a minute of the recording, and then whenever it has grown by so much."""
_PHRASE_SIGN = re.compile(r"[,;:.!?…—–،؛。、]")


@dataclass(frozen=True)
class Outside:
    """A stretch of speech that is in no script, seconds."""

    start_s: float
    end_s: float


@dataclass(frozen=True)
class HeardScript:
    """What was heard of a script: each reading of each line in the order of the recording, and what is in no script."""

    lines: tuple[str, ...]
    words: tuple[int, ...]
    """How many words each line has."""
    readings: tuple[Reading, ...]
    outside: tuple[Outside, ...]
    duration_s: float
    doubt: float
    """As of `doubt_of`."""

    @property
    def is_another(self) -> bool:
        """Whether hardly anything that was said is in the script: it is another text."""
        read_s = sum(reading.end_s - reading.start_s for reading in self.readings)
        away_s = sum(outside.end_s - outside.start_s for outside in self.outside)
        return self.doubt > _DOUBTFUL or away_s > _ANOTHER * (read_s + away_s)


class Recording:
    """What is heard of a recording: `given` are its mel powers, shape (rows, BANDS), kept in a file."""

    def __init__(self, given: np.ndarray, envelope: Envelope):
        pauses = pauses_of_voice(envelope)
        share = share_of(pauses, len(given))
        self.given = given
        self.sample = np.array(given[:_SAMPLE_ROWS])
        self.room = Room(self.sample, share[: len(self.sample)])
        louder = []
        for first in _firsts(len(given)):
            louder.append(self.room.louder(np.asarray(given[first : first + _CHUNK_ROWS])))
            let_go(given)
        loud = self.sample[share[: len(self.sample)] > 0.5].sum(axis=1)
        above_db = db_of_power(float(loud.mean()) / max(float(self.room.powers.sum()), 1e-12)) if len(loud) else 0.0
        louder_rows = np.concatenate([np.zeros(0, bool), *louder])
        quiet = quiet_rows(envelope, pauses, len(given))
        self.speech = speech_of(pauses, share, louder_rows, quiet=quiet, above_room_db=above_db)
        self.voice = Voice(self.sample, self.speech.share[: len(self.sample)] > 0.5)

    def heard_first(self, ear: Ear, rows: int) -> Heard:
        """The first rows, as an ear hears them."""
        features = ear.heard(self.voice.features(self.sample[:rows]))
        return Heard(features, self.speech.share[: len(features)], ear.least(features))

    def heard(self, ear: Ear, kept: BinaryIO) -> Heard:
        """All rows, as an ear hears them, kept in a file."""
        rows = len(self.given)
        features = np.memmap(kept, np.float32, "w+", shape=(max(1, rows), FEATURES))[:rows]
        least = np.zeros(rows, np.float32)
        for first in _firsts(rows):
            before = min(first, _CONTEXT_ROWS)
            part = self.voice.features(np.asarray(self.given[first - before : first + _CHUNK_ROWS + _CONTEXT_ROWS]))
            told = ear.heard(part[before : before + _CHUNK_ROWS])
            features[first : first + len(told)], least[first : first + len(told)] = told, ear.least(told)
            let_go(self.given)
            let_go(features)
        return Heard(features, self.speech.share, least)


class SpokenScript:
    """The spoken script, in the throat that is nearest to a recording's."""

    def __init__(
        self,
        lines: Sequence[str],
        spoken: Iterator[SpokenLine],
        recording: Recording,
        *,
        warps: Sequence[float] = WARPS,
    ):
        self._recording = recording
        self.words, self._phrase_ends = _phrases(lines)
        begun = list(_of_length(spoken, _TRIED_S * RATE_HZ))
        tried = {warp: self._first_states(begun, warp) for warp in warps}
        self.warp = min(warps, key=lambda warp: self._cost(tried[warp][0]))
        _, voice, level = tried[self.warp]
        self.states = self._states(chain(begun, spoken), voice, self.warp, level)

    def phrases(self, states: States) -> np.ndarray:
        """The rests inside lines that a comma or another sign stands at, as numbers of states."""
        rests = np.flatnonzero(~states.speech)
        told: np.ndarray = rests[np.isin(states.word[rests], self._phrase_ends)]
        return told

    def _first_states(self, begun: list[SpokenLine], warp: float) -> tuple[States, Voice, float]:
        recording = self._recording
        said = np.concatenate([powers(line.samples.astype(np.float32) / FULL_SCALE, warp=warp) for line in begun])
        loud = said.sum(axis=1)
        spoken = loud > _FAINTEST_SPOKEN * np.percentile(loud, 90) if len(loud) else np.zeros(0, bool)
        level = recording.voice.level / float(loud[spoken].mean()) if spoken.any() else 1.0
        voice = Voice(said * np.float32(level), spoken, recording.room.powers)
        return self._states(iter(begun), voice, warp, level), voice, level

    def _states(self, spoken: Iterator[SpokenLine], voice: Voice, warp: float, level: float) -> States:
        return states_of(zip(spoken, self.words, strict=False), voice, warp=warp, level=level)

    def _cost(self, states: States) -> float:
        """What the beginning of the recording costs along the beginning of the script, each row of speech."""
        if not states.speech.any():
            return 0.0
        ear = first_ear(states)
        heard = self._recording.heard_first(ear, _TRIED_ROWS)
        way = Follower(states, ear, self.phrases(states), heard).follow()
        return _cost_of(way, heard)


def hear(
    path: Path,
    lines: Sequence[str],
    *,
    language: str,
    envelope: Envelope,
    progress: Progress = lambda share: None,
    so_far: Callable[[HeardScript], None] = lambda heard: None,
) -> HeardScript:
    """Find where each word of a script was spoken.

    Parameters
    ----------
    lines
        The script in the order it is to be read: sentences, or lines that are read in one go.
    language
        The language of the script, a BCP 47 tag such as "en" or "fr-CA".
    envelope
        The recording's, as it was measured.
    so_far
        Called now and then with what is heard from the beginning on, and stays as it is.

    Raises
    ------
    UnreadableRecording, CannotSpeak, Cancelled
    """
    counts = tuple(len(words_of(line)) for line in lines)
    if not any(counts):
        return HeardScript(tuple(lines), counts, (), (), envelope.duration_s, 0.0)

    def heard(attended: Attended) -> HeardScript:
        speech = attended.recording.speech
        outside = tuple(Outside(*edges) for edges in outside_of(attended.way, speech.share))
        readings = tuple(readings_of(attended.states, attended.way, speech))
        return HeardScript(tuple(lines), counts, readings, outside, envelope.duration_s, attended.doubt)

    def begun(attended: Attended) -> None:
        found = heard(attended)
        # The last line may go on.
        so_far(replace(found, readings=found.readings[:-1]))

    return heard(attend(path, lines, language=language, envelope=envelope, progress=progress, so_far=begun))


@dataclass(frozen=True)
class Attended:
    """A recording and the states of its script, the way through them, and how doubtful it is, as of `doubt_of`."""

    recording: Recording
    script: SpokenScript
    way: Way
    doubt: float

    @property
    def states(self) -> States:
        return self.script.states


def attend(
    path: Path,
    lines: Sequence[str],
    *,
    language: str,
    envelope: Envelope,
    progress: Progress = lambda share: None,
    so_far: Callable[[Attended], None] = lambda attended: None,
) -> Attended:
    """As `hear`, before it is put into words; at least one line has a word."""
    recording = Recording(
        powers_in_file(path, lambda share: progress(_SHARE_READ * share)),
        envelope,
    )
    with closing(Ahead(speak(lines, language))) as ahead:
        script = SpokenScript(lines, _told(ahead, len(lines), progress), recording)
    states, phrases = script.states, script.phrases(script.states)
    if not states.speech.any():
        rows = len(recording.given)
        return Attended(recording, script, Way(np.full(rows, -1, np.int32), np.zeros(rows, np.float32)), 0.0)
    ear, doubt = _learned(states, phrases, recording)
    progress(_SHARE_LEARNED)
    with tempfile.TemporaryFile() as kept:
        heard = recording.heard(ear, kept)
        follower = Follower(states, ear, phrases, heard)
        next_told = _TOLD_ROWS

        def settled(rows: int) -> None:
            nonlocal next_told
            progress(_SHARE_LEARNED + (1 - _SHARE_LEARNED) * rows / len(heard.features))
            if rows >= next_told:
                next_told = int(_TOLD_GROWS * rows)
                so_far(Attended(recording, script, follower.way(rows), doubt))

        way = follower.follow(place=_place(states, ear, phrases, heard), settled=settled)
    progress(1.0)
    return Attended(recording, script, way, doubt)


def powers_in_file(path: Path, progress: Progress) -> np.ndarray:
    """Mel powers of a whole recording, shape (rows, BANDS), kept in a file that nobody else sees."""
    rows = 0
    with tempfile.TemporaryFile() as kept, Reader(path) as reader:
        blocks = to_channels(watched(reader, progress=progress), 1)
        if len(reader.channel_names) > 2:
            blocks = (block.mean(axis=1, keepdims=True, dtype=np.float32) for block in blocks)
        lower = resampled(blocks, from_hz=reader.sample_rate_hz, to_hz=RATE_HZ, channels=1, quality="MQ")
        for part in powers_of_blocks(lower):
            kept.write(part.tobytes())
            rows += len(part)
        kept.flush()
        return np.memmap(kept, np.float32, "r", shape=(rows, BANDS)) if rows else np.zeros((0, BANDS), np.float32)


def _learned(states: States, phrases: np.ndarray, recording: Recording) -> tuple[Ear, float]:
    """The ear for a voice, learned from the first minutes of it, and how doubtful it is that this is its text."""
    ear, taught, doubts = first_ear(states), _FIRST_TAUGHT, []
    features = recording.voice.features(recording.sample)
    share = recording.speech.share[: len(features)]
    for _ in range(_TIMES_LEARNED):
        heard = recording.heard_first(ear, len(features))
        place = _place(states, ear, phrases, heard)
        way = Follower(states, ear, phrases, heard).follow(place=place)
        doubts.append(doubt_of(states, ear, heard, way))
        ear = learned(states, features, share, way, margin=taught)
        taught = ear.margin
    return ear, doubts[0]


def _place(states: States, ear: Ear, phrases: np.ndarray, heard: Heard) -> int:
    """The state to begin to look at: the first one, or the one that the beginning fits better."""
    follower = Follower(states, ear, phrases, heard)
    if follower.sees_all or (found := follower.find(0)) is None:
        return 0
    begun = Heard(*(part[:_TRIED_ROWS] for part in (heard.features, heard.spoken, heard.least)))

    def cost(place: int) -> float:
        return _cost_of(Follower(states, ear, phrases, begun).follow(place=place), begun)

    return min((0, found), key=cost)


def _cost_of(way: Way, heard: Heard) -> float:
    """What a row of speech costs along a way; one outside of it as much as a wrong sound."""
    spoken = heard.spoken > 0.5
    costs = heard.least + np.where(way.states >= 0, way.excess, np.float32(FIRST_MARGIN))
    return float(costs[spoken].mean()) if spoken.any() else 0.0


def _phrases(lines: Sequence[str]) -> tuple[list[int], np.ndarray]:
    """How many words each line has, and after which of all words, but for a line's last, a phrase ends."""
    counts: list[int] = []
    ends: list[int] = []
    words = 0
    for line in lines:
        places = words_of(line)
        ends += [words + at for at, ((start, _), (after, _)) in enumerate(pairwise(places))
                 if _PHRASE_SIGN.search(line, start, after)]  # fmt: skip
        counts.append(len(places))
        words += len(places)
    return counts, np.array(ends, int)


def _told(spoken: Iterable[SpokenLine], lines: int, progress: Progress) -> Iterator[SpokenLine]:
    """The same lines, with progress told at each."""
    for at, line in enumerate(spoken):
        progress(_SHARE_READ + (_SHARE_SPOKEN - _SHARE_READ) * at / lines)
        yield line


def _of_length(spoken: Iterator[SpokenLine], samples: int) -> Iterator[SpokenLine]:
    """Lines until so many samples have been spoken."""
    while samples > 0 and (line := next(spoken, None)) is not None:
        yield line
        samples -= len(line.samples)


def _firsts(rows: int) -> range:
    return range(0, rows, _CHUNK_ROWS)
