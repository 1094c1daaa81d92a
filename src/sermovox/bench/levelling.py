"""Levelling against nothing but the encoder, and the whole way against libav's loudnorm in two passes."""

import gc
import json
import statistics
import tempfile
from collections import deque
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import av
import numpy as np

from mastering.audio.reader import Reader
from mastering.before_after import before_and_after
from mastering.certain import certain
from mastering.meters.measurement import measure
from mastering.outlets.planning import plan_levels
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.shaping.chain import shaped
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from mastering.shaping.treatment import ALWAYS, AS_IT_IS, Treatment
from sermovox.bench.core import OUTLET, bare_lame
from sermovox.bench.tools import RATE_HZ, ROUNDS, line, seconds, speech_recording, timed

_TARGET_LUFS, _CEILING_DBTP = -18.0, -1.5
_EVERYTHING = Treatment(hush=ALWAYS, ride=ALWAYS)


def tables(minutes: int) -> None:
    """Print the tables of levelling; the two passes of loudnorm on at most ten minutes."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _stages(speech_recording(folder, minutes, "recording.wav"), folder)
        _two_passes(speech_recording(folder, min(10, minutes), "short.wav"), folder)
        _hearing(speech_recording(folder, 180, "long.wav"))


def _stages(take: Path, folder: Path) -> None:
    levels = measure(take).levels
    with Reader(take) as reader:
        blocks = list(reader.blocks())
    bare, plainly, everything, whole, treated = [], [], [], [], []
    target = folder / "made.mp3"
    for _ in range(ROUNDS):
        bare.append(bare_lame(take, folder))
        plainly.append(timed(lambda: _levelled(take, blocks, levels, AS_IT_IS)))
        everything.append(timed(lambda: _levelled(take, blocks, levels, _EVERYTHING)))
        whole.append(timed(lambda: make(take, shipped()[OUTLET], target, replace=True)))
        treated.append(timed(lambda: make(take, shipped()[OUTLET], target, treatment=_EVERYTHING, replace=True)))
    line("bare LAME encode, same samples and quality", seconds(bare), "1", "")
    for words, times, asked in (
        ("levelling: plan, gain and limiter", plainly, "at most 0.15"),
        ("levelling with ride and hush", everything, "at most 0.6"),
        ("making: read, measure, level, encode, decode, check", whole, "at most 1.6"),
        ("making with ride and hush", treated, ""),
    ):
        ratio = statistics.median(t / b for t, b in zip(times, bare, strict=True))
        line(words, seconds(times), f"{ratio:.2f}", asked)


def _levelled(take: Path, blocks: list[np.ndarray], levels, treatment: Treatment) -> None:
    """Plan and shape samples that are in memory already, as `make` does between reading and encoding."""
    demands = shipped()[OUTLET].demands(channels=1, content_kind="speech")
    plan = plan_levels(levels, demands, lossy=True, treatment=treatment)
    with Reader(take) as beside:
        sound = shaped(iter(blocks), plan.chain(levels.envelope), source=beside, frames=levels.frames, channels=1)
        sound = gained(sound, plan.gain_db)
        for _ in limited(sound, ceiling_dbtp=certain(plan.ceiling_dbtp), sample_rate_hz=RATE_HZ, channels=1):
            pass


def _two_passes(take: Path, folder: Path) -> None:
    ours, theirs = [], []
    made, other = folder / "ours.mp3", folder / "theirs.mp3"
    for _ in range(ROUNDS):
        theirs.append(timed(lambda: _loudnorm_twice(take, other)))
        ours.append(timed(lambda: make(take, shipped()[OUTLET], made, replace=True)))
    line("libav's loudnorm, measured and applied, then libmp3lame", seconds(theirs), "1", "")
    ratio = statistics.median(t / o for t, o in zip(theirs, ours, strict=True))
    line("making the same file, times as fast", seconds(ours), f"{ratio:.1f}", "at least 5")
    off = {path: abs(certain(measure(path).levels.integrated_lufs) - _TARGET_LUFS) for path in (other, made)}
    line("loudnorm's file, from the target", f"{off[other]:.2f} LU", "", "")
    line("our file, from the target", f"{off[made]:.2f} LU", "", "no more than that")


def _loudnorm_twice(take: Path, target: Path) -> None:
    aims = f"I={_TARGET_LUFS}:TP={_CEILING_DBTP}:LRA=11"
    av.logging.set_level(av.logging.INFO)
    av.logging.set_skip_repeated(False)
    with av.logging.Capture(local=False) as told:
        deque(_filtered(take, f"{aims}:print_format=json"), maxlen=0)
        # It tells what it measured when its graph goes.
        gc.collect()
    av.logging.set_level(None)
    text = "".join(words for _, _, words in told)
    found = json.loads(text[text.index("{") : text.rindex("}") + 1])
    known = ":".join(
        f"measured_{name}={found[f'input_{key}']}"
        for name, key in (("I", "i"), ("TP", "tp"), ("LRA", "lra"), ("thresh", "thresh"))
    )
    with av.open(str(target), "w") as container:
        stream = container.add_stream("libmp3lame", rate=RATE_HZ)
        stream.layout, stream.bit_rate = "mono", 128000
        stream.codec_context.open()
        queue = av.AudioFifo()
        change = av.AudioResampler(format=stream.codec_context.format.name, layout="mono", rate=RATE_HZ)
        for frame in _filtered(take, f"{aims}:{known}:offset={found['target_offset']}:linear=true"):
            for part in change.resample(frame):
                part.pts = None
                queue.write(part)
            while chunk := queue.read(stream.codec_context.frame_size):
                chunk.pts = None
                container.mux(stream.encode(chunk))
        while chunk := queue.read(stream.codec_context.frame_size, partial=True):
            chunk.pts = None
            container.mux(stream.encode(chunk))
        container.mux(stream.encode(None))


def _filtered(take: Path, options: str) -> Iterator[Any]:
    with av.open(str(take)) as container:
        stream = container.streams.audio[0]
        graph = av.filter.Graph()
        source = graph.add_abuffer(template=stream)
        shaping, sink = graph.add("loudnorm", options), graph.add("abuffersink")
        source.link_to(shaping)
        shaping.link_to(sink)
        graph.configure()
        for frame in [*container.decode(stream), None]:
            graph.push(frame)
            try:
                while True:
                    yield graph.pull()
            except (av.BlockingIOError, av.EOFError):
                pass


def _hearing(take: Path) -> None:
    levels = measure(take).levels
    demands = shipped()[OUTLET].demands(channels=1, content_kind="speech")
    treatment = Treatment(hush=ALWAYS, ride=ALWAYS, rumble_hz=70)
    plans = []
    times = [
        timed(lambda: plans.append(plan_levels(levels, demands, lossy=True, treatment=treatment)))
        for _ in range(ROUNDS)
    ]
    line("planning 3 hours with ride and hush", f"{statistics.median(times):.2f} s", "", "")
    times = [
        timed(lambda: before_and_after(take, take, plans[0], levels, start_s=9000.0, length_s=10.0))
        for _ in range(ROUNDS)
    ]
    line(
        "10 s from the third hour, before and after, ready to be heard",
        f"{statistics.median(times):.2f} s",
        "",
        "under 1 s",
    )
