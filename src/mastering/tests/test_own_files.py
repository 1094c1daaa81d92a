"""Whatever a sheet allows, a file made for it passes it: every codec, bitrate mode and number of channels."""

import tempfile
from collections.abc import Iterator
from pathlib import Path
from unittest import TestCase

from mastering.audio.formats import AVERAGE, CONSTANT, MP3_KBPS, QUALITY, VARIABLE, WRITTEN
from mastering.outlets.findings import FAIL
from mastering.outlets.outlet import BadOutlet, Outlet
from mastering.outlets.rulesheets import parse
from mastering.pipeline import make
from mastering.tests.signals import noise, speech, written

_DEPTHS = ("16-bit integer", "24-bit integer", "32-bit integer", "32-bit float")
_CHANNELS = ("mono", "stereo", "joint stereo", "separate stereo")


def asked(container: str, codec: str, channels: str, rate_hz: int, **more: str) -> Outlet:
    """A sheet that asks for one encoding. Raises BadOutlet where there is none such."""
    stated = {"container": f'exactly = "{container}"', "channels": f'exactly = "{channels}"'}
    stated |= {"codec": f'exactly = "{codec}"', "sample_rate_hz": f"exactly = {rate_hz}"} | more
    rules = "".join(f'[[rules]]\nname = "{name}"\n{said}\nsource = "a test"\n' for name, said in stated.items())
    return parse(f'format = 2\nkey = "own"\ntitle = "Own"\nsummary = "One encoding."\n{rules}')


def sheets() -> Iterator[tuple[str, Outlet]]:
    """Every codec by every mode and number of channels that a sheet can ask for, with some bitrates of each."""
    for container, codecs in ((name, each.codecs) for name, each in WRITTEN.items()):
        for codec in codecs:
            rate_hz = 48000 if codec == "opus" else 44100
            for channels in _CHANNELS:
                for words, more in _modes(codec, 1 if channels == "mono" else 2):
                    try:
                        outlet = asked(container, codec, channels, rate_hz, **more)
                    except BadOutlet:
                        continue
                    yield f"{container} {codec} {channels} {words}", outlet


def _modes(codec: str, channels: int) -> Iterator[tuple[str, dict[str, str]]]:
    for depth in _DEPTHS:
        yield depth, {"sample_format": f'exactly = "{depth}"'}
    mode = {name: {"bit_rate_mode": f'exactly = "{name}"'} for name in (CONSTANT, AVERAGE, VARIABLE, QUALITY)}
    for kbps in (48 * channels, 96 * channels):
        yield f"{CONSTANT} {kbps}", mode[CONSTANT] | {"bit_rate_kbps": f"exactly = {kbps}"}
        yield f"at least {kbps}", mode[CONSTANT] | {"bit_rate_kbps": f"at_least = {kbps}"}
        around = f"target = {kbps}\ntolerance = {round(0.4 * kbps)}"
        yield f"{AVERAGE} {kbps}", mode[AVERAGE] | {"bit_rate_kbps": around}
        yield f"without a mode {kbps}", {"bit_rate_kbps": around}
    yield VARIABLE, mode[VARIABLE] | {"bit_rate_kbps": f"at_least = {32 * channels}\nat_most = {80 * channels}"}
    for quality in (0, 4, 9):
        yield f"{QUALITY} {quality}", mode[QUALITY] | {"quality": f"exactly = {quality}"}


class OwnFiles(TestCase):
    def test_a_file_made_for_a_sheet_passes_it(self):
        with tempfile.TemporaryDirectory() as kept:
            folder = Path(kept)
            take = speech(seconds=2.5) + noise(-60, 2.5)
            wide = take.repeat(2, axis=1) + noise(-50, 2.5, seed=2) * [[0.5, -1.0]]
            sources = {1: written(folder, take, name="mono.wav"), 2: written(folder, wide, name="stereo.wav")}
            tried = 0
            for number, (words, outlet) in enumerate(sheets()):
                channels = 1 if " mono " in words else 2
                with self.subTest(words):
                    extension = outlet.encoding_from(channels, content_kind="speech").extension
                    made = make(sources[channels], outlet, folder / f"{number}.{extension}")
                    wrong = [f"{f.label}: {f.asked}, {f.found}" for f in made.sheet.findings if f.verdict == FAIL]
                    self.assertEqual(wrong, [])
                    made.path.unlink()
                tried += 1
            self.assertGreater(tried, 90)

    def test_every_layer_and_bitrate_of_mp3(self):
        """Each bitrate of ISO/IEC 11172-3 and 13818-3 (from memory) asked of as many sheets."""
        with tempfile.TemporaryDirectory() as kept:
            folder = Path(kept)
            source = written(folder, speech(seconds=3), name="take.wav")
            for rate_hz, known in MP3_KBPS.items():
                for kbps in known[:: max(1, len(known) // 3)]:
                    one = {"bit_rate_mode": f'exactly = "{CONSTANT}"', "bit_rate_kbps": f"exactly = {kbps}"}
                    with self.subTest(rate_hz=rate_hz, kbps=kbps):
                        made = make(
                            source, asked("mp3", "mp3", "mono", rate_hz, **one), folder / f"{rate_hz}-{kbps}.mp3"
                        )
                        self.assertNotIn(FAIL, {finding.verdict for finding in made.sheet.findings})
