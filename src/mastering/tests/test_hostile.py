"""Whatever somebody else's file holds: every reader answers soon, with little memory, and complains in words.

Hypothesis mutates real files: bytes changed, cut out, put in, and small pieces repeated until a time that grows with
the square of a length shows.
"""

import io
import resource
import tempfile
import time
import zipfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from unittest import TestCase

import docx
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from mastering.audio.convert import to_held
from mastering.audio.encodings import Encoding
from mastering.audio.formats import QUALITY
from mastering.audio.writers import open_writer
from mastering.editing import scripts
from mastering.editing.documents import read_package
from mastering.editing.labels import FORMATS, Label, read_labels, write_labels
from mastering.editing.tables import read_table
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.meters.measurement import measure
from mastering.naming.described import described
from mastering.naming.patterns import facts_of, read_pattern
from mastering.naming.renaming import read_map
from mastering.outlets.rulesheets import parse, shipped_text
from mastering.tagging.artwork import inspect
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import Chapter, Inscription
from mastering.tagging.markers import read_markers
from mastering.tagging.writing import inscribe
from mastering.tests.signals import picture, speech
from mastering.words.lines import script_lines
from mastering.words.timed import TimedText, as_srt, as_transcript, as_vtt, read_timed

_AT_MOST_S = 5.0
_AT_MOST_MORE_MB = 400
_LONGEST = 200_000
_EXAMPLES = 15
_LABELS = [Label(0.5, 0.5, "Wind, south"), Label(1.25, 2.0, "Home")]
_SAID = [TimedText(0.0, 1.0, "Salt & cedar."), TimedText(1.0, 2.5, "He said <no>.")]
_PIECES = (
    *(b"<p>", b"</p>", b"<a", b"<a>", b"</", b"<!--", b"<!", b"<?", b"<b></x>", b"<sup>1", b"&", b"&#", b"<span>x"),
    *(b"[", b"{", b'{"a":', b"[[", b'"', b"'", b"\xe2\x80\x9c", b",", b"\t", b";", b"|", b"0", b"9", b"1:", b"-->"),
    *(b"\n", b"\r", b"#", b"# ", b"a ", b"A: ", b"=", b"[a]\n", b"\\u", b"\0", b"-", b"(1)", b'"""', b" ", b"\xff"),
    *(b"INDEX 01 00:00:00\n", b"00:00:01.000 --> 00:00:02.000\nx\n\n", b"<li><a href='1.xhtml'>x</a></li>"),
)


@st.composite
def mutated(draw, whole: bytes) -> bytes:
    """A file with up to four things done to it."""
    data = bytearray(whole)
    for _ in range(draw(st.integers(1, 4))):
        at = draw(st.integers(0, len(data)))
        match draw(st.sampled_from(("change", "cut", "repeat", "fill", "end"))):
            case "change":
                data[at : at + 4] = draw(st.binary(min_size=1, max_size=8))
            case "cut":
                del data[at : at + draw(st.integers(1, 2_000))]
            case "repeat":
                piece = bytes(data[at : at + draw(st.integers(1, 200))]) or b"x"
                data[at:at] = piece * draw(st.integers(1, _LONGEST // len(piece)))
            case "fill":
                piece = draw(st.sampled_from(_PIECES))
                data[at:at] = piece * (_LONGEST // len(piece))
            case "end":
                del data[at:]
    return bytes(data[: 4 * _LONGEST])


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


def _script(data: bytes) -> None:
    text = decoded(data)[0]
    scripts.entries(text, scripts.recognised(text))
    script_lines(text)


_BOOK = {
    "mimetype": "application/epub+zip",
    "META-INF/container.xml": '<container><rootfiles><rootfile full-path="book.opf"/></rootfiles></container>',
    "book.opf": '<package><manifest><item id="n" href="n.xhtml" properties="nav"/><item id="x" href="x.ncx" '
    'media-type="application/x-dtbncx+xml"/><item id="a" href="1.xhtml"/></manifest><spine><itemref idref="a"/>'
    '<itemref idref="a"/></spine></package>',
    "n.xhtml": '<html xmlns="x"><body><nav xmlns:epub="e" epub:type="toc"><ol><li><a href="1.xhtml#c">One</a></li></ol>'
    "</nav></body></html>",
    "x.ncx": '<ncx><navMap><navPoint><navLabel><text>One</text></navLabel><content src="1.xhtml"/></navPoint></navMap>'
    "</ncx>",
    "1.xhtml": '<html><body><h1 id="c">One</h1><p>Salt<sup>1</sup> &amp; cedar.</p><aside epub:type="footnote">No.'
    "</aside></body></html>",
}


def _packed(members: dict[str, bytes]) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_STORED) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return made.getvalue()


def _book(**changed: bytes) -> bytes:
    return _packed({name: changed.get(name, text.encode()) for name, text in _BOOK.items()})


def _word() -> dict[str, bytes]:
    made, document = io.BytesIO(), docx.Document()
    document.add_heading("One", 1)
    document.add_paragraph("Salt and cedar.")
    document.add_table(2, 2).cell(0, 0).text = "A"
    document.save(made)
    with zipfile.ZipFile(made) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


_WORD = _word()
_TEXTS: dict[str, tuple[bytes, Callable[[bytes], object]]] = {
    **{
        f"marks as {kind}": (
            write_labels(_LABELS, kind, file_name="a.wav").encode(),
            lambda data, kind=kind: read_labels(_text(data), kind, duration_s=1e9),
        )
        for kind in FORMATS
    },
    "VTT": (as_vtt(_SAID).encode(), lambda data: read_timed(_text(data), duration_s=1e9)),
    "SRT": (as_srt(_SAID).encode(), lambda data: read_timed(_text(data), duration_s=1e9)),
    "transcript": (as_transcript(_SAID).encode(), lambda data: read_timed(_text(data), duration_s=1e9)),
    "table": (b"1\tOne\tA\n2\tTwo\t\xe2\x80\x9cB\xe2\x80\x9d\n", lambda data: read_table(_text(data))),
    "map": (b"old name,new name\na.mp3,b.mp3\n", lambda data: read_map(_text(data))),
    "script": (b"# One\n\nINES: Salt.\nJONAS: Cedar, \xe2\x80\x9cor\xe2\x80\x9d pine.\n", _script),
    "sheet": (shipped_text("podcast-host").encode(), lambda data: parse(_text(data))),
    "pattern": (
        b"{place|pad}[-{title|plain|lower|join:-}]",
        lambda data: read_pattern(_text(data)[:5_000]).name(facts_of([{"title": "a", "place": 1}])[0]),
    ),
    "name": (b"Chapter 12 part 2 - Salt (final v2).wav", lambda data: described(_text(data)[:1_000])),
    **{
        f"EPUB, {name}": (text.encode(), lambda data, name=name: read_package(_book(**{name: data})))
        for name, text in _BOOK.items()
    },
    "EPUB": (_book(), read_package),
    **{
        f"DOCX, {name}": (content, lambda data, name=name: read_package(_packed(_WORD | {name: data})))
        for name, content in _WORD.items()
        if name in ("word/document.xml", "word/styles.xml", "[Content_Types].xml", "word/_rels/document.xml.rels")
    },
    "PNG": (picture("PNG", side=40), inspect),
    "JPEG": (picture(side=40), inspect),
}


class Hostile(TestCase):
    def answers(self, what: str, whole: bytes, read: Callable[[bytes], object], examples: int = _EXAMPLES):
        """Feed a reader a fixed number of mutated files."""
        slowest_s = 0.0

        @settings(
            max_examples=examples,
            derandomize=True,
            database=None,
            deadline=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(mutated(whole))
        def feed(data: bytes) -> None:
            nonlocal slowest_s
            began = time.process_time()
            with suppress(MasteringError):
                read(data)
            slowest_s = max(slowest_s, time.process_time() - began)
            self.assertLess(slowest_s, _AT_MOST_S, what)

        before_kb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        feed()
        more_mb = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before_kb) / 1024
        self.assertLess(more_mb, _AT_MOST_MORE_MB, what)

    def test_texts_packages_and_pictures(self):
        for what, (whole, read) in _TEXTS.items():
            with self.subTest(what):
                self.answers(what, whole, read)

    def test_every_piece_repeated_on_its_own(self):
        """What Hypothesis may not come upon: a whole file of one piece, for each reader of texts."""
        for what in (
            "marks as txt",
            "marks as cue",
            "marks as json",
            "VTT",
            "table",
            "script",
            "sheet",
            "EPUB, 1.xhtml",
        ):
            _, read = _TEXTS[what]
            for piece in _PIECES:
                with self.subTest(what, piece=piece):
                    began = time.process_time()
                    with suppress(MasteringError):
                        read(piece * (_LONGEST // 2 // len(piece)))
                    self.assertLess(time.process_time() - began, _AT_MOST_S / 2)

    def test_a_chapter_that_an_order_names_fifty_times_is_read_once(self):
        order = _BOOK["book.opf"].replace('<itemref idref="a"/>', '<itemref idref="a"/>' * 50)
        chapter = "<html><body>" + "<p>Salt and cedar, and so on.</p>" * 20_000 + "</body></html>"
        began = time.process_time()
        text = read_package(_book(**{"book.opf": order.encode(), "1.xhtml": chapter.encode()}))
        self.assertEqual(text.count("Salt"), 20_000)
        self.assertLess(time.process_time() - began, _AT_MOST_S)

    def test_recordings_with_tags_marks_and_pictures(self):
        """RIFF, the boxes of MP4, ID3, Vorbis comments, and what libav makes of what is left of them."""
        given_tags = Inscription(
            tags={"title": "Salt", "artist": "Ines"},
            picture=picture(side=40),
            chapters=(Chapter(start_s=0.0, end_s=0.5, title="One"), Chapter(start_s=0.5, end_s=1.0, title="Two")),
        )
        kinds = (
            {"container": "wav"},
            {"container": "m4a", "bit_rate_kbps": 64},
            {"container": "mp3", "bit_rate_kbps": 64},
            {"container": "flac"},
            {"container": "ogg", "mode": QUALITY, "quality": 5},
        )
        for facts in kinds:
            with self.subTest(facts), tempfile.TemporaryDirectory() as folder:
                encoding = Encoding(sample_rate_hz=44100, channels=1, **facts)
                path = Path(folder) / f"take.{encoding.extension}"
                samples = speech(seconds=5)
                writer = open_writer(path, encoding, frames=len(samples))
                for block in to_held(iter([samples]), holds=encoding.holds, dither=False):
                    writer.write(block)
                writer.close()
                inscribe(path, encoding.container, given_tags)

                def read(data: bytes, path: Path = path) -> None:
                    path.write_bytes(data)
                    read_carried(path)
                    with suppress(MasteringError):
                        read_markers(path, sample_rate_hz=44100)
                    measure(path)

                self.answers(encoding.container, path.read_bytes(), read)
