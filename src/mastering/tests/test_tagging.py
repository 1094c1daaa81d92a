"""Tags, pictures and chapter marks: written with one library, read with another, and the sound is never touched."""

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import av
import mutagen
import numpy as np

from mastering.audio.convert import to_held
from mastering.audio.encodings import Encoding
from mastering.audio.formats import QUALITY
from mastering.audio.reader import Reader
from mastering.audio.writers import open_writer
from mastering.errors import CannotMake
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import TAGS, BadTag, Chapter, Inscription, tag_text
from mastering.tagging.mp4_chapters import add_links_and_pictures
from mastering.tagging.writing import holds, inscribe, reinscribe, sound_sha256
from mastering.tests.signals import picture, speech

FORMATS = (
    {"container": "mp3", "bit_rate_kbps": 64},
    {"container": "m4a", "bit_rate_kbps": 64},
    {"container": "m4b", "bit_rate_kbps": 64},
    {"container": "m4a", "codec": "alac"},
    {"container": "wav"},
    {"container": "aiff"},
    {"container": "caf"},
    {"container": "caf", "codec": "alac"},
    {"container": "flac"},
    {"container": "ogg", "mode": QUALITY, "quality": 5},
    {"container": "ogg", "codec": "opus", "bit_rate_kbps": 32, "sample_rate_hz": 48000},
    {"container": "wma", "bit_rate_kbps": 64},
)
TEXTS = {
    "title": "Das Wetterhaus – 天気の家 – بيت الطقس – дом погоды – 🎙",
    "artist": "Ilse Ørum",
    "album": "The Lamp & the Barometer",
    "album_artist": "M. Szczęsny",
    "composer": "Ana Duarte",
    "track": "3/12",
    "disc": "1/2",
    "year": "2026",
    "genre": "Audiobook",
    "comment": "Read aloud in a shed.",
    "description": "First line.\nSecond line.",
    "lyrics": "Notes for this part:\n– the mill\n– the tide",
    "copyright": "© 2026 Ilse Ørum",
    "language": "deu",
    "contact": "ilse@example.org",
    "kind": "audiobook",
}
CHAPTERS = (
    Chapter(start_s=0, end_s=1.5, title="Öffnung", link="https://example.org/one"),
    Chapter(start_s=1.5, end_s=3.2, title="第二章"),
    Chapter(start_s=3.2, end_s=5, title="Third"),
)


class Inscribed(TestCase):
    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def file(self, *, chapters=(), **facts) -> tuple[Path, str]:
        encoding = Encoding(**({"sample_rate_hz": 44100, "channels": 1} | facts))
        path = self.folder / f"{facts['container']}-{encoding.codec}.{encoding.extension}"
        path.unlink(missing_ok=True)
        samples = speech(seconds=5)
        writer = open_writer(path, encoding, frames=len(samples), chapters=chapters)
        for block in to_held(iter([samples]), holds=encoding.holds, dither=False):
            writer.write(block)
        writer.close()
        return path, encoding.container

    def decoded(self, path: Path) -> np.ndarray:
        with Reader(path) as reader:
            return np.concatenate(list(reader.blocks()))

    def test_every_tag_a_format_holds_is_read_back_by_another_library(self):
        for facts in FORMATS:
            with self.subTest(facts):
                path, container = self.file(chapters=CHAPTERS, **facts)
                before = self.decoded(path)
                for form in ("ID3v2.3", "ID3v2.4"):
                    given = Inscription(tags=TEXTS, picture=picture(side=64), chapters=CHAPTERS, form=form)
                    inscribe(path, container, given)
                    found = read_carried(path)
                    held = {name: text for name, text in TEXTS.items() if holds(container, name)}
                    self.assertEqual({name: found.tags.get(name) for name in held}, held)
                    self.assertEqual(found.container, container)
                    if container in ("mp3", "aiff"):
                        self.assertEqual(found.form, form)
                    if holds(container, "picture"):
                        self.assertEqual(found.picture, given.picture)
                    if holds(container, "chapters"):
                        self.assertEqual([c.title for c in found.chapters], [c.title for c in CHAPTERS])
                        starts = [chapter.start_s for chapter in found.chapters]
                        np.testing.assert_allclose(starts, [c.start_s for c in CHAPTERS], atol=0.001)
                np.testing.assert_array_equal(self.decoded(path), before)

    def test_what_was_there_before_goes(self):
        for facts in FORMATS:
            with self.subTest(facts):
                path, container = self.file(**facts)
                inscribe(path, container, Inscription(tags=TEXTS, picture=picture(side=64)))
                inscribe(path, container, Inscription(tags={"title": "Short"}))
                found = read_carried(path)
                left = {name: text for name, text in found.tags.items() if name != "encoder"}
                self.assertEqual(left, {"title": "Short"})
                self.assertEqual(found.picture, b"")

    def test_the_encoder_is_left_out_unless_wished(self):
        for facts in FORMATS:
            path, container = self.file(**facts)
            inscribe(path, container, Inscription(tags={"title": "A"}))
            self.assertNotIn("encoder", read_carried(path).tags, facts)
            if holds(container, "encoder"):
                inscribe(path, container, Inscription(tags={"title": "A", "encoder": "Sermovox"}))
                self.assertEqual(read_carried(path).tags["encoder"], "Sermovox", facts)

    def test_tags_of_an_existing_file_are_written_without_touching_its_sound(self):
        for facts in FORMATS:
            with self.subTest(facts):
                path, container = self.file(**facts)
                path.chmod(0o640)
                before, packets = self.decoded(path), sound_sha256(path)
                reinscribe(path, container, Inscription(tags=TEXTS, picture=picture(side=64), chapters=CHAPTERS))
                np.testing.assert_array_equal(self.decoded(path), before)
                self.assertEqual(sound_sha256(path), packets)
                self.assertEqual(read_carried(path).tags["title"], TEXTS["title"])
                self.assertEqual(path.stat().st_mode & 0o777, 0o640)
                self.assertEqual([each for each in self.folder.iterdir() if each.name.startswith(".")], [])

    def test_a_file_that_cannot_be_written_stays_as_it_was(self):
        path, container = self.file(container="mp3", bit_rate_kbps=64)
        before = path.read_bytes()
        with self.assertRaises(CannotMake):
            reinscribe(path, "caf", Inscription(tags={"title": "A"}))
        broken = self.folder / "broken.flac"
        shutil.copyfile(path, broken)
        with self.assertRaises(CannotMake):
            reinscribe(broken, "flac", Inscription(tags={"title": "A"}))
        self.assertEqual((path.read_bytes(), broken.read_bytes()), (before, before))
        self.assertEqual(len(list(self.folder.iterdir())), 2)

    def test_pictures_and_links_of_chapters_go_into_id3(self):
        path, container = self.file(container="mp3", bit_rate_kbps=64)
        for form in ("ID3v2.3", "ID3v2.4"):
            shown = Chapter(start_s=0, end_s=5, title="Only", link="https://example.org/a", picture=picture("PNG", 64))
            inscribe(path, container, Inscription(chapters=(shown,), form=form))
            self.assertEqual(read_carried(path).chapters, (shown,))
            (frame,) = mutagen.File(path).tags.getall("CHAP")
            self.assertEqual(frame.sub_frames["TIT2"].text, ["Only"])

    def test_pictures_and_links_of_chapters_go_into_mp4(self):
        path, container = self.file(container="m4b", bit_rate_kbps=64, chapters=CHAPTERS)
        before, sound = self.decoded(path), sound_sha256(path)
        first, second, cover = (picture(side=side) for side in (48, 64, 96))
        for shown, seen in (
            ((first, b"", second), [(0.0, first), (1.5, cover), (3.2, second)]),
            ((b"", second, b""), [(0.0, cover), (1.5, second), (3.2, cover)]),
        ):
            chapters = tuple(replace(c, picture=data) for c, data in zip(CHAPTERS, shown, strict=True))
            reinscribe(path, container, Inscription(tags=TEXTS, picture=cover, chapters=chapters))
            self.assertEqual(self.thumbnails(path), seen)
            self.assertEqual(self.titles(path), [(c.title, c.link) for c in CHAPTERS])
        found = read_carried(path)
        self.assertEqual((found.picture, found.tags["title"]), (cover, TEXTS["title"]))
        self.assertEqual([c.title for c in found.chapters], [c.title for c in CHAPTERS])
        self.assertEqual(sound_sha256(path), sound)
        np.testing.assert_array_equal(self.decoded(path), before)
        self.assertFalse(self.facts(path).has_video)

    def test_without_a_cover_the_picture_before_stays_and_none_comes_before_the_first(self):
        path, container = self.file(container="m4a", bit_rate_kbps=64, chapters=CHAPTERS)
        only = picture(side=48)
        chapters = (
            CHAPTERS[0],
            replace(CHAPTERS[1], picture=only, link="https://example.org/" + "x" * 255),
            CHAPTERS[2],
        )
        inscribe(path, container, Inscription(chapters=chapters, picture=picture("PNG", 64)))
        self.assertEqual(self.thumbnails(path), [(1.5, only)])
        self.assertEqual([link for _, link in self.titles(path)], [CHAPTERS[0].link, "", ""], "255 bytes at most")

    def test_chapters_of_a_damaged_mp4_are_refused_and_it_stays_as_it_is(self):
        path, _ = self.file(container="m4b", bit_rate_kbps=64, chapters=CHAPTERS)
        whole, cut = path.read_bytes(), self.folder / "cut.m4b"
        for length in (*range(1, len(whole), 499), len(whole) - 1):
            cut.write_bytes(whole[:length])
            with self.assertRaises(CannotMake):
                add_links_and_pictures(cut, CHAPTERS)
            self.assertEqual(cut.read_bytes(), whole[:length])
        path, _ = self.file(container="m4b", bit_rate_kbps=64)
        with self.assertRaisesRegex(CannotMake, "no chapters"):
            add_links_and_pictures(path, CHAPTERS)
        self.assertEqual(len(list(self.folder.iterdir())), 2)

    def thumbnails(self, path: Path) -> list[tuple[float, bytes]]:
        """When each picture of a chapter is shown, and its bytes, as libav finds them."""
        with av.open(str(path)) as opened:
            kind = av.stream.Disposition.timed_thumbnails
            (number,) = (stream.index for stream in opened.streams.video if stream.disposition & kind)
        return [(at_s, data) for at_s, data in self.samples(path, number) if data]

    def titles(self, path: Path) -> list[tuple[str, str]]:
        """Title and link of each sample of the track of titles, as libav hands it out."""
        found = []
        with av.open(str(path)) as opened:
            number = opened.streams.data[0].index
        for _, sample in self.samples(path, number):
            title = sample[2 : 2 + int.from_bytes(sample[:2])].decode()
            link = sample.partition(b"href")[2][4:]
            found.append((title, link[1 : 1 + link[0]].decode() if link else ""))
        return found

    def samples(self, path: Path, number: int) -> list[tuple[float, bytes]]:
        """When each sample of a track comes, and its bytes, where libav takes chapters for tracks like others."""
        with av.open(str(path), options={"ignore_chapters": "1"}) as opened:
            packets = [packet for packet in opened.demux() if packet.stream.index == number and packet.size]
            return [(float(packet.pts * packet.time_base), bytes(packet)) for packet in packets]

    def facts(self, path: Path):
        with Reader(path) as reader:
            return reader.format_facts()

    def test_wav_keeps_its_other_chunks(self):
        path, container = self.file(container="wav", broadcast=True)
        for _ in range(3):
            inscribe(path, container, Inscription(tags=TEXTS))
        sizes = path.stat().st_size
        inscribe(path, container, Inscription(tags=TEXTS))
        self.assertEqual(path.stat().st_size, sizes)
        with Reader(path) as reader:
            self.assertIsNotNone(reader.format_facts().time_reference_frames)
        self.assertEqual(len(self.decoded(path)), 5 * 44100)

    def test_a_file_cut_off_anywhere_near_its_start_is_read_as_far_as_it_goes(self):
        # Those whose bytes are looked at without libav.
        for facts in ({"container": "mp3", "bit_rate_kbps": 64}, {"container": "aiff"}):
            path, container = self.file(**facts)
            inscribe(path, container, Inscription(tags=TEXTS, chapters=CHAPTERS))
            whole, cut = path.read_bytes(), self.folder / "cut"
            for length in (*range(1, 64), *range(64, min(6000, len(whole)), 97)):
                cut.write_bytes(whole[:length])
                read_carried(cut)
                # As much again of nonsense after it: lengths and counts point anywhere.
                cut.write_bytes(whole[:length] + b"\xff\x7f" * length)
                read_carried(cut)

    def test_as_many_chapters_as_a_format_holds_and_more_are_refused(self):
        many = tuple(Chapter(start_s=n / 100, end_s=(n + 1) / 100, title=f"{n}") for n in range(300))
        path, _ = self.file(chapters=many, container="m4b", bit_rate_kbps=64)
        self.assertEqual(len(read_carried(path).chapters), 300)
        path, container = self.file(container="mp3", bit_rate_kbps=64)
        with self.assertRaisesRegex(CannotMake, "300 marks"):
            inscribe(path, container, Inscription(chapters=many))


class Texts(TestCase):
    def test_what_players_choke_on_is_said(self):
        for name, text, said in (
            ("title", "A\x00B", "control character (U+0000)"),
            ("title", "A\nB", "a line break"),
            ("comment", "A\x1bB", "control character (U+001B)"),
            ("title", "x" * 100_000, "100,000 characters"),
            ("lyrics", "x" * 100_000, "60,000 at most"),
            ("artist", "half \ud83c", "half of a sign"),
            ("track", "three", "wants a number"),
            ("kind", "song", "audiobook or podcast"),
        ):
            with self.subTest(text[:10]), self.assertRaises(BadTag) as caught:
                tag_text(name, text)
            self.assertIn(said, str(caught.exception))
            self.assertIn(TAGS[name], str(caught.exception))

    def test_texts_are_made_uniform(self):
        self.assertEqual(tag_text("title", "  A\u0308rger "), "Ärger")
        self.assertEqual(tag_text("lyrics", "one\r\ntwo"), "one\ntwo")
        # ISO 639-2/T (from memory).
        self.assertEqual(tag_text("language", "German"), "deu")
        self.assertEqual(tag_text("language", "Klingon"), "Klingon")
