"""The words of what sounds: of a section as it is put together, or of a finished file as it was."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from mastering.editing.pieces import Piece, Span, from_list
from mastering.words.lines import word_texts
from mastering.words.timed import TimedText
from sermovox.cutting.models import Page
from sermovox.cutting.programmes import Assembly
from sermovox.cutting.texts import Words
from sermovox.productions.models import Production
from sermovox.recordings.models import Recording


class Placed(NamedTuple):
    """A word as it is heard: from when to when, seconds, and where in which recording it was spoken."""

    start_s: float
    end_s: float
    text: str
    recording: str
    at_s: float


class Spoken:
    """The words of a production's recordings, read once."""

    def __init__(self, production: Production):
        self._production = production
        self._assembly = Assembly(production)
        self._words: dict[str, Words | None] = {}

    def of(self, pieces: Sequence[Piece]) -> list[list[Placed]]:
        """What is said in pieces that sound one after the other, sentence by sentence, word by word, at the times when
        it is heard. Raises BadCut or UnreadableRecording.
        """
        found: list[list[Placed]] = []
        last: tuple[str, int] | None = None
        for piece, at_s in zip(pieces, self._assembly.starts_s(pieces), strict=False):
            words = self._of(piece.span.recording) if piece.tone_samples is None else None
            if words is None or words.heard is None:
                continue
            for number, own in self._words_of(piece, at_s, words):
                # A sentence that was cut into goes on.
                if last == (piece.span.recording, number):
                    found[-1] += own
                else:
                    found.append(own)
                last = piece.span.recording, number
        return found

    def _words_of(self, piece: Piece, at_s: float, words: Words) -> Iterator[tuple[int, list[Placed]]]:
        """Of each reading that a piece has words of its number, and these."""
        heard, rate_hz = words.certainly_heard, words.page.sample_rate_hz
        start_s, end_s = piece.span.start_sample / rate_hz, piece.span.end_sample / rate_hz
        for number, reading in enumerate(heard.readings):
            if reading.end_s <= start_s or reading.start_s >= end_s:
                continue
            texts = word_texts(heard.lines[reading.line])
            own = []
            for word in reading.words:
                if start_s <= (word.start_s + word.end_s) / 2 < end_s:
                    first, last = (min(max(edge, start_s), end_s) - start_s for edge in (word.start_s, word.end_s))
                    text = texts[word.word]
                    own.append(Placed(at_s + first, at_s + last, text, piece.span.recording, word.start_s))
            if own:
                yield number, own

    def pieces_of(self, stretches) -> tuple[Piece, ...]:
        """The pieces of a section. Raises BadCut or UnreadableRecording."""
        return self._assembly.pieces(stretches)

    def known(self, pieces: Sequence[Piece]) -> Sequence[Piece]:
        """Pieces that were put together before, with what is to be known of their recordings."""
        self._assembly.know({piece.span.recording for piece in pieces})
        return pieces

    def _of(self, recording: str) -> Words | None:
        if recording not in self._words:
            found = Recording.objects.filter(production=self._production, pk=int(recording)).first()
            page = Page.objects.filter(recording=found).select_related("recording").first() if found else None
            if page is None and found is not None and found.ready:
                page = Page.of(found)
            self._words[recording] = words = Words(page) if page else None
            if words:
                words.queue()
        return self._words[recording]


def spoken_in(
    production: Production, programme: dict | None, recording: Recording | None, *, later_s: float = 0.0
) -> list[list[TimedText]]:
    """What is said in something that was put together before, from its plain values, or in the whole of a recording,
    all of it so much later; what would lie before the beginning does not sound. Raises BadCut or UnreadableRecording.
    """
    spoken = Spoken(production)
    if programme is not None:
        found = spoken.of(spoken.known(from_list(programme["pieces"])))
    elif recording is not None and recording.ready:
        # As it came: whatever is marked on its page now was not when it was put together.
        whole = Piece(span=Span(str(recording.pk), 0, recording.frames))
        found = spoken.of(spoken.known([whole]))
    else:
        found = []
    later = [[TimedText(w.start_s + later_s, w.end_s + later_s, w.text) for w in words] for words in found]
    heard = [[TimedText(max(0.0, w.start_s), w.end_s, w.text) for w in words if w.end_s > 0] for words in later]
    return [words for words in heard if words]
