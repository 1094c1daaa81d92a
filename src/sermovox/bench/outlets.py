"""One run for several outlets, tags, and the check of finished files."""

import shutil
import statistics
import tempfile
import time
from functools import partial
from pathlib import Path
from urllib.parse import urlencode

import soundfile

from mastering.meters.measurement import measure
from mastering.naming.patterns import facts_of
from mastering.outlets.checksheet import check
from mastering.outlets.filled_in import inscription_for
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.tagging.artwork import picture_for
from mastering.tagging.carried import read_carried
from mastering.tagging.writing import reinscribe_all
from sermovox.bench.core import bare_lame
from sermovox.bench.tools import ROUNDS, Visitor, application, line, quiet, seconds, send_file, speech_recording, timed
from sermovox.demo.artwork import book_cover

_PORT = 8495
_SECTIONS = 12
_RUNS = (
    ("three MP3 outlets", ("audiobook-retail", "volunteer-archive", "podcast-host")),
    ("two of MP3 and one M4B of all", ("audiobook-retail", "volunteer-archive", "single-file-audiobook")),
)
_FILES = 100


def tables(minutes: int) -> None:
    """Print the tables of outlets."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        take = speech_recording(folder, minutes, "book.wav")
        _runs(take, folder)
        _tags(folder)
        _checks(take, folder)


def _runs(take: Path, folder: Path) -> None:
    """A book of twelve sections, its sections made for three outlets by both workers."""
    with application(folder / "data", _PORT) as visitor:
        quiet(visitor)
        production = begun(visitor)
        sections = bring_in(visitor, production, _parts(take, folder))
        for name, keys in _RUNS:
            bare, took = [], []
            # Taken in turns, so that a slow moment of the machine does not fall on one of them alone.
            for _ in range(ROUNDS):
                bare.append(sum(bare_lame(take, folder, key) for key in keys) / 2)
                took.append(one_run(visitor, production, sections, keys))
            ratio = statistics.median(t / b for t, b in zip(took, bare, strict=True))
            line(f"{name}: bare encodes, by two cores", seconds(bare), "1", "")
            line(f"{name}: {_SECTIONS} sections in one run, checked", seconds(took), f"{ratio:.2f}", "at most 1.3")


def _parts(take: Path, folder: Path) -> list[Path]:
    samples, rate_hz = soundfile.read(take, dtype="int16")
    length = len(samples) // _SECTIONS
    paths = []
    for number in range(_SECTIONS):
        paths.append(folder / f"book-{number + 1:02}.wav")
        soundfile.write(paths[-1], samples[number * length : (number + 1) * length], rate_hz)
    return paths


def begun(visitor: Visitor) -> int:
    """A production of its own."""
    facts = {"title": "The Salt Road"}
    answer = visitor.send("POST", "/productions/new/", urlencode(facts).encode())
    return int(answer.url.rstrip("/").rpartition("/")[2])


def bring_in(visitor: Visitor, production: int, paths: list[Path]) -> list[str]:
    address = f"/productions/{production}/"
    for path in paths:
        send_file(visitor, path, production=production)
    while len(new := _section_keys(visitor, address)) < len(paths):
        time.sleep(0.5)
    while sum(f'id="pick-{key}-ready"' in visitor.get(address).decode() for key in new) < len(new):
        time.sleep(0.5)
    return new


def _section_keys(visitor: Visitor, address: str) -> list[str]:
    return [part.split('"')[0] for part in visitor.get(address).decode().split('name="section" value="')[1:]]


def one_run(visitor: Visitor, production: int, sections: list[str], keys: tuple[str, ...]) -> float:
    facts = [("existing", "keep-both"), ("again", "yes")]
    facts += [*(("outlet", key) for key in keys), *(("section", key) for key in sections)]
    began = time.perf_counter()
    answer = visitor.send("POST", f"/deliveries/start/{production}/", urlencode(facts).encode())
    first = answer.url.rstrip("/").rpartition("/")[2]
    # A delivery runs for as long as any other of its run does.
    while b'data-running="no"' not in visitor.get(f"/deliveries/{first}/progress/"):
        time.sleep(0.5)
    return time.perf_counter() - began


def _tags(folder: Path) -> None:
    """Tags, picture and all, written into finished files of one minute each."""
    outlet = shipped()["podcast-host"]
    made = make(speech_recording(folder, 1, "minute.wav"), outlet, folder / "minute.mp3").path
    (facts,) = facts_of([{"title": "Ebb", "production": "The Salt Road", "place": 3, "total": 12}], lines=True)
    given, _ = inscription_for(outlet, facts, container="mp3", picture=picture_for(outlet.artwork, book_cover()))
    times = []
    for _ in range(ROUNDS):
        paths = [Path(shutil.copy(made, folder / f"tagged-{number}.mp3")) for number in range(_FILES)]
        times.append(timed(partial(reinscribe_all, [(path, "mp3", given, path) for path in paths])))
    line(f"tags and picture of {_FILES} files of a minute, sound proven untouched", seconds(times), "", "under 3 s")


def _checks(take: Path, folder: Path) -> None:
    """The whole check of a finished file against decoding and measuring it alone."""
    outlet = shipped()["podcast-host"]
    made = make(take, outlet, folder / "checked.mp3").path
    plain, whole = [], []
    for _ in range(ROUNDS):
        plain.append(timed(lambda: _decoded(made)))
        whole.append(timed(lambda: check(measure(made), outlet, carried=read_carried(made), name=made.name)))
    line("decoding a finished file by libsndfile", seconds(plain), "1", "")
    ratio = statistics.median(w / p for w, p in zip(whole, plain, strict=True))
    line("checking it against all rules of its outlet", seconds(whole), f"{ratio:.2f}", "at most 3.0")


def _decoded(path: Path) -> None:
    with soundfile.SoundFile(path) as sound:
        while len(sound.read(1 << 16, dtype="float32")):
            pass
