"""For every kind of rule, a file that breaks only this rule is caught by exactly this rule."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.audio.convert import to_held
from mastering.audio.encodings import Encoding
from mastering.audio.formats import AVERAGE, CONSTANT, INT_24, QUALITY, VARIABLE
from mastering.audio.writers import open_writer
from mastering.meters.measurement import measure
from mastering.outlets.checksheet import check, check_together, consistency
from mastering.outlets.findings import FAIL
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules import RULE_KINDS
from mastering.outlets.rules.kind import OF_MAKING, Delivered
from mastering.outlets.rulesheets import read
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import TAGS, Chapter, Inscription
from mastering.tagging.writing import inscribe
from mastering.tests.signals import noise, picture, speech

RATE = 44100
HEAD = 'format = 2\nkey = "x"\ntitle = "X"\nsummary = "For a test."\n'
TEXTS = {f"tag_{name}": f"a {name}" for name in TAGS} | {
    "tag_track": "3/12",
    "tag_disc": "1/2",
    "tag_kind": "audiobook",
    "tag_year": "2026",
    "tag_language": "eng",
    "names": "03-ebb",
    "chapters": "One\nTwo",
}
LOOSE = {
    "integrated_lufs": "at_least = -60\nat_most = 0",
    "rms_dbfs": "at_least = -60\nat_most = 0",
    "rms_aes17_dbfs": "at_least = -60\nat_most = 3",
    "loudness_range_lu": "at_most = 30",
    "sample_peak_dbfs": "at_most = 0",
    "true_peak_dbtp": "at_most = 2",
    "noise_floor_dbfs": "at_most = -30",
    "head_s": "at_least = 0.1\nat_most = 9",
    "tail_s": "at_least = 0.1\nat_most = 9",
    "duration_s": "at_most = 600",
    "size_mb": "at_most = 100",
}
"""What speech of any level keeps to."""
TAGGED = {f"tag_{name}": f'exactly = "a {name}"' for name in TAGS if name != "encoder"} | {
    "tag_encoder": 'exactly = "left out"'
}
PICTURED = {
    "artwork_px": "at_least = 600\nat_most = 1200",
    "artwork_kb": "at_most = 900",
    "artwork_format": 'exactly = "JPEG"',
}


def sheet(**asked: str) -> Outlet:
    rules = [f'[[rules]]\nname = "{name}"\n{demand}\nsource = "this test"\n' for name, demand in asked.items()]
    return read(HEAD + "".join(rules))


def plain(samples: np.ndarray | None = None) -> np.ndarray:
    """Ten seconds of something like speech with half a second of a quiet room at either end."""
    room = noise(-66, 0.5, seed=8)
    return np.concatenate([room, speech(seconds=9, peak=0.3), room]) if samples is None else samples


class Sabotage(TestCase):
    tried: set[str] = set()

    def setUp(self):
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)
        self.passed: list[tuple[Outlet, str]] = []
        self.encoded: dict[str, bytes] = {}

    def failing(self, outlet: Outlet, samples=None, *, name="", inscription=None, rate_hz=RATE, **facts) -> list[str]:
        encoding = Encoding(**({"sample_rate_hz": rate_hz, "channels": 1} | facts))
        path = self.folder / (name or f"03-ebb.{encoding.extension}")
        path.unlink(missing_ok=True)
        given = inscription or self.inscription()
        known = f"{encoding} {given.chapters}"
        if samples is None and known in self.encoded:
            path.write_bytes(self.encoded[known])
        else:
            self.encode(path, encoding, samples, given.chapters)
            if samples is None:
                self.encoded[known] = path.read_bytes()
        inscribe(path, encoding.container, given)
        texts = TEXTS | {"names": f"03-ebb.{encoding.extension}"}
        found = check(measure(path), outlet, carried=read_carried(path), name=path.name, texts=texts)
        self.assertTrue(all(finding.advice for finding in found.findings if finding.verdict == FAIL))
        return [finding.rule for finding in found.findings if finding.verdict == FAIL]

    def encode(self, path: Path, encoding: Encoding, samples, chapters) -> None:
        wide = plain(samples).repeat(encoding.channels, axis=1).astype(np.float32)
        writer = open_writer(path, encoding, frames=len(wide), chapters=chapters)
        for block in to_held(iter([wide]), holds=encoding.holds, dither=False):
            writer.write(block)
        writer.close()

    def inscription(self, **changes) -> Inscription:
        chapters = (Chapter(start_s=0, end_s=4, title="One"), Chapter(start_s=4, end_s=10, title="Two"))
        tags = {name.removeprefix("tag_"): text for name, text in TEXTS.items() if name.startswith("tag_")}
        tags.pop("encoder")
        plain = Inscription(tags=tags, picture=picture(), chapters=chapters)
        return replace(plain, **changes)

    def caught(self, rule: str, asked: dict[str, str], good: dict, bad: dict, *, demand: str = "") -> None:
        """The good file passes the whole sheet; the bad one fails this rule and nothing else."""
        self.tried.add(rule)
        outlet = sheet(**(asked | ({rule: demand} if demand else {})))
        with self.subTest(rule):
            if (outlet, str(good)) not in self.passed:
                self.assertEqual(self.failing(outlet, **good), [])
                self.passed.append((outlet, str(good)))
            self.assertEqual(self.failing(outlet, **bad), [rule])

    def test_format(self):
        wav = {"container": "wav", "broadcast": True}
        asked = LOOSE | {
            "container": 'exactly = "wav"',
            "channels": 'exactly = "mono"',
            "sample_rate_hz": "exactly = 44100",
            "sample_format": 'exactly = "16-bit integer"',
            "broadcast_wave": 'exactly = "there"',
        }
        self.caught("channels", asked, wav, wav | {"channels": 2})
        self.caught("sample_rate_hz", asked, wav, wav | {"rate_hz": 48000})
        self.caught("sample_format", asked, wav, wav | {"sample_format": INT_24})
        self.caught("broadcast_wave", asked, wav, wav | {"broadcast": False})
        self.caught("size_mb", asked, wav, wav | {"samples": speech(seconds=12)}, demand="at_most = 1")
        self.caught("names", asked, wav, wav | {"name": "3-ebb.wav"}, demand='exactly = "{place}"')
        m4b = {"container": "m4b", "bit_rate_kbps": 64}
        asked = (
            LOOSE | TAGGED | PICTURED | {"container": 'exactly = "m4b"', "bit_rate_kbps": "target = 64\ntolerance = 6"}
        )
        self.caught("container", asked, m4b, m4b | {"container": "m4a"})
        ogg = {"container": "ogg", "codec": "vorbis", "quality": 4, "rate_hz": 48000}
        asked = LOOSE | {
            "container": 'exactly = "ogg"',
            "codec": 'exactly = "vorbis"',
            "sample_rate_hz": "exactly = 48000",
        }
        self.caught("codec", asked, ogg, ogg | {"codec": "opus", "bit_rate_kbps": 64, "quality": None})

    def test_bitrates(self):
        mp3 = {"container": "mp3", "mode": CONSTANT, "bit_rate_kbps": 64}
        asked = LOOSE | TAGGED | {"container": 'exactly = "mp3"', "bit_rate_kbps": "exactly = 64"}
        asked["bit_rate_mode"] = 'exactly = "constant"'
        self.caught("bit_rate_kbps", asked, mp3, mp3 | {"bit_rate_kbps": 80})
        loose = asked | {"bit_rate_kbps": "at_least = 32\nat_most = 320"}
        self.caught("bit_rate_mode", loose, mp3, mp3 | {"mode": AVERAGE})
        between = {"container": "mp3", "mode": VARIABLE, "lowest_kbps": 32, "highest_kbps": 64}
        asked |= {"bit_rate_mode": 'exactly = "variable"', "bit_rate_kbps": "at_least = 32\nat_most = 64"}
        self.caught("bit_rate_kbps", asked, between, between | {"highest_kbps": 96})
        quality = {"container": "mp3", "mode": QUALITY, "quality": 5}
        asked |= {"quality": "exactly = 5", "bit_rate_kbps": "at_least = 32\nat_most = 320"}
        self.caught("quality", asked, quality, quality | {"quality": 7})

    def test_levels(self):
        wav = {"container": "wav"}
        base = plain()
        loud = base * 2
        self.caught("integrated_lufs", LOOSE, wav, wav | {"samples": loud}, demand="at_least = -30\nat_most = -22")
        # A deep hum has power and next to no loudness.
        times = np.arange(len(base))[:, None] / RATE
        hum = base + (0.2 * np.sin(2 * np.pi * 20 * times)).astype(np.float32)
        tight = LOOSE | {"integrated_lufs": "at_least = -30\nat_most = -18", "noise_floor_dbfs": "at_most = 0"}
        tight |= {"head_s": "at_least = 0", "tail_s": "at_least = 0"}
        self.caught("rms_dbfs", tight, wav, wav | {"samples": hum}, demand="at_least = -40\nat_most = -19")
        self.caught("rms_aes17_dbfs", tight, wav, wav | {"samples": hum}, demand="at_least = -40\nat_most = -16")
        faint = np.concatenate([base, base * 0.15, base])
        self.caught("loudness_range_lu", LOOSE, wav, wav | {"samples": faint}, demand="at_most = 12")
        click = base.copy()
        click[5 * RATE] = 0.9
        self.caught("sample_peak_dbfs", LOOSE, wav, wav | {"samples": click}, demand="at_most = -3")
        # EBU Tech 3341, case 19 (from memory): between samples a quarter of the rate at 45 degrees is 3 dB higher.
        between = base.copy()
        at = np.arange(400)
        between[5 * RATE : 5 * RATE + 400, 0] = 0.99 * np.sin(np.pi / 2 * at + np.pi / 4)
        peaks = LOOSE | {"sample_peak_dbfs": "at_most = -2"}
        self.caught("true_peak_dbtp", peaks, wav, wav | {"samples": between}, demand="at_most = -1")
        hiss = base + noise(-50, len(base) / RATE, seed=4)[: len(base)]
        self.caught("noise_floor_dbfs", LOOSE, wav, wav | {"samples": hiss}, demand="at_most = -60")
        room = noise(-66, 3, seed=8)
        late, long = np.concatenate([room, base]), np.concatenate([base, room])
        self.caught("head_s", LOOSE, wav, wav | {"samples": late}, demand="at_least = 0.1\nat_most = 2")
        self.caught("tail_s", LOOSE, wav, wav | {"samples": long}, demand="at_least = 0.1\nat_most = 2")
        halting = np.concatenate([base[: 4 * RATE], noise(-74, 3, seed=9), base[4 * RATE :]])
        self.caught("longest_pause_s", LOOSE, wav, wav | {"samples": halting}, demand="at_most = 2")
        self.caught("duration_s", LOOSE, wav, wav | {"samples": long}, demand="at_most = 12")

    def test_tags(self):
        mp3 = {"container": "mp3", "bit_rate_kbps": 64}
        asked = TAGGED | PICTURED | {"container": 'exactly = "mp3"'}
        asked["tag_form"] = 'exactly = "ID3v2.4"'
        asked["chapters"] = 'exactly = "from marks"'
        good = self.inscription()
        for name in TAGS:
            if name == "encoder":
                bad = replace(good, tags=good.tags | {"encoder": "Something"})
            else:
                other = {"track": "4/12", "disc": "2/2", "kind": "podcast"}.get(name, "another")
                bad = replace(good, tags=good.tags | {name: other})
            self.caught(f"tag_{name}", asked, mp3, mp3 | {"inscription": bad})
            if name != "encoder":
                left = {key: text for key, text in good.tags.items() if key != name}
                self.caught(f"tag_{name}", asked, mp3, mp3 | {"inscription": replace(good, tags=left)})
        self.caught("tag_form", asked, mp3, mp3 | {"inscription": replace(good, form="ID3v2.3")})
        for rule, shown in (
            ("artwork_px", picture(side=500)),
            ("artwork_kb", picture(side=1190)),
            ("artwork_format", picture("PNG", 600)),
        ):
            demand = {"artwork_kb": "at_most = 500"}.get(rule, "")
            loose = asked | {"artwork_kb": "at_most = 9000"}
            self.caught(rule, loose, mp3, mp3 | {"inscription": replace(good, picture=shown)}, demand=demand)
        untitled = (replace(good.chapters[0], title=" "), good.chapters[1])
        late = (replace(good.chapters[0], start_s=2), good.chapters[1])
        other = (replace(good.chapters[0], title="Won"), good.chapters[1])
        for marks in ((), untitled, late, other):
            self.caught("chapters", asked, mp3, mp3 | {"inscription": replace(good, chapters=marks)})

    def test_deliveries(self):
        asked = {
            "delivery_mb": "at_most = 4",
            "channels_alike": 'exactly = "all alike"',
            "order": 'exactly = "as the running order"',
            "sections_required": 'exactly = ["opening credits", "closing credits"]',
            "extra_files": 'exactly = ["manifest.csv", "cover.jpg"]',
        }
        outlet = sheet(**asked)
        first = Delivered(name="01-a.mp3", channels=1, size_bytes=1_000_000, role="opening credits")
        last = Delivered(name="02-b.mp3", channels=1, size_bytes=1_000_000, role="closing credits")

        def failing(*files, extras=("manifest.csv", "cover.jpg")):
            found = check_together(files, outlet, extras=extras).findings
            return [finding.rule for finding in found if finding.verdict == FAIL]

        self.assertEqual(failing(first, last), [])
        self.assertEqual(failing(first, replace(last, size_bytes=4_000_000)), ["delivery_mb"])
        self.assertEqual(failing(first, replace(last, channels=2)), ["channels_alike"])
        self.assertEqual(failing(replace(first, name="03-a.mp3"), last), ["order"])
        self.assertEqual(failing(first, replace(last, role="chapter")), ["sections_required"])
        self.assertEqual(failing(first, last, extras=("manifest.csv",)), ["extra_files"])
        self.tried |= set(asked) | {"consistency_lu"}
        apart = consistency([-18, -18.5, -23, None], sheet(consistency_lu="at_most = 2"))
        self.assertEqual([finding and finding.verdict == FAIL for finding in apart], [False, False, True, None])

    @classmethod
    def tearDownClass(cls):
        sounding = {name for name, kind in RULE_KINDS.items() if kind.scope != OF_MAKING}
        untried = sounding - cls.tried
        # Only where all of this class ran can it be said that a kind was forgotten.
        if len(cls.tried) > len(RULE_KINDS) // 2 and untried:
            raise AssertionError(f"nothing sabotages {', '.join(sorted(untried))}")
