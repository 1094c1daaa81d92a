"""The text of a page as what remains of it is heard."""

from collections.abc import Sequence

from mastering.editing.assembly import Stretch
from sermovox.cutting.models import Page
from sermovox.cutting.spoken import Spoken


def heard_sentences(page: Page, spans: Sequence[tuple[int, int]] = ()) -> list[list[tuple[str, float, float]]]:
    """Sentence by sentence the words that are heard on a page, or in stretches of it: each with where it stands in the
    recording and when it is heard, seconds. Of what was put in, the place is that of what it replaces. Raises BadCut or
    UnreadableRecording.
    """
    key = str(page.recording_id)
    wanted = spans or [(0, page.recording.frames)]
    spoken = Spoken(page.production)
    pieces = spoken.pieces_of([Stretch(recording=key, start_sample=start, end_sample=end) for start, end in wanted])
    found = []
    here_s = 0.0
    for sentence in spoken.of(pieces):
        own = []
        for word in sentence:
            here_s = word.at_s if word.recording == key else here_s
            own.append((word.text, round(here_s, 3), round(word.start_s, 3)))
        found.append(own)
    return found
