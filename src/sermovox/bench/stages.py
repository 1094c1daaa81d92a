"""Where the time of one file goes: each stage by itself on one core, as lines of the table and as a picture."""

import time
from collections.abc import Callable
from html import escape
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from mastering.audio.convert import to_held
from mastering.audio.formats import INT_16
from mastering.audio.reader import Reader
from mastering.audio.writers import encoder_gain_db, open_writer
from mastering.meters.decibels import amplitude_of_db
from mastering.meters.kweighting import CHANNEL_NAMES
from mastering.meters.measurement import measure
from mastering.meters.meter import Meter
from mastering.outlets.planning import plan_levels
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make
from mastering.shaping.gain import gained
from mastering.shaping.limiter import limited
from sermovox.bench.tools import line, timed

ENCODING = "encoding"
_WIDTH, _LEFT, _BAR, _LINE = 760, 190, 34, 20
_FILLS = ("#1f4fa3", "#5a554b", "#8f887a", "#2c6a3c", "#855400", "#a8261c", "#b8a888", "#6b4a86", "#1d1b17")


def table(take: Path, folder: Path, minutes: int, outlet_key: str, picture: Path | None) -> None:
    """Print what each stage takes, and draw it."""
    stages = _stages(take, folder, outlet_key)
    whole_s = _made(take, folder, outlet_key)
    of_all_s = sum(stages.values())
    for name, taken_s in stages.items():
        line(f"of one file: {name}", f"{taken_s:.2f} s", f"{taken_s / stages[ENCODING]:.3f}", "")
    line("of one file: all stages, one after the other", f"{of_all_s:.2f} s", f"{of_all_s / stages[ENCODING]:.2f}", "")
    line("the file made and verified on two cores", f"{whole_s:.2f} s", f"{whole_s / stages[ENCODING]:.2f}", "")
    if picture:
        picture.write_text(drawn(stages, whole_s, minutes))


def _stages(take: Path, folder: Path, outlet_key: str) -> dict[str, float]:
    """Seconds of each stage, alone on one core, in the order a file goes through them."""
    outlet, taken = shipped()[outlet_key], {}
    encoding = outlet.encoding(channels=1, content_kind="speech")
    demands = outlet.demands(channels=1, content_kind="speech")
    levels = measure(take).levels

    def noted(name: str, work: Callable[[], Any]) -> Any:
        began = time.perf_counter()
        found = work()
        taken[name] = time.perf_counter() - began
        return found

    with Reader(take) as reader:
        rate_hz = reader.sample_rate_hz
        blocks = noted("reading the recording", lambda: list(reader.blocks()))
    plan = noted("the level plan", lambda: plan_levels(levels, demands, lossy=True))
    blocks = noted("gain", lambda: list(gained(iter(blocks), plan.gain_db)))
    ceiling: dict[str, Any] = {"ceiling_dbtp": plan.ceiling_dbtp, "sample_rate_hz": rate_hz, "channels": 1}
    blocks = noted("limiter", lambda: list(limited(iter(blocks), **ceiling)) if plan.ceiling_dbtp else blocks)
    made_up = amplitude_of_db(-encoder_gain_db(encoding))
    held: dict[str, Any] = {"holds": encoding.holds, "dither": encoding.holds == INT_16, "gain": made_up}
    blocks = noted("dither and rounding", lambda: list(to_held(iter(blocks), **held)))
    made = folder / f"staged.{encoding.extension}"

    def encode() -> None:
        writer = open_writer(made, encoding)
        for block in blocks:
            writer.write(block)
        writer.close()

    noted(ENCODING, encode)
    frames = sum(len(block) for block in blocks)
    with soundfile.SoundFile(made) as sound:
        decoded = noted("decoding what was made", lambda: list(sound.blocks(65536, dtype="float32", always_2d=True)))
    noted("measuring it", lambda: _measured(decoded, encoding.sample_rate_hz))
    with Reader(made) as reader:
        noted("its packets, walked over", lambda: reader.walk(frames))
    made.unlink()
    return taken


def _measured(blocks: list[np.ndarray], rate_hz: int) -> None:
    meter = Meter(rate_hz, CHANNEL_NAMES[1], of_recording=False)
    for block in blocks:
        meter.add(block)
    meter.levels()


def _made(take: Path, folder: Path, outlet_key: str) -> float:
    measured = measure(take)
    recordings = {take: (take.name, measured.figures() | measured.origin())}
    target = folder / "whole.mp3"
    return timed(
        lambda: make(
            take, shipped()[outlet_key], target, replace=True, measured=lambda: measured, recordings=lambda: recordings
        )
    )


def drawn(stages: dict[str, float], whole_s: float, minutes: int) -> str:
    """The stages as SVG: what the encoder's core does above, what the other does below, to one scale with the whole."""
    others = {name: taken_s for name, taken_s in stages.items() if name != ENCODING}
    longest_s = max(whole_s, stages[ENCODING], sum(others.values()))
    per_s = (_WIDTH - _LEFT - 70) / longest_s
    rows = (
        ("the encoder’s core", {ENCODING: stages[ENCODING]}),
        ("the other core", others),
        ("by the clock", {"made and verified": whole_s}),
    )
    shapes, y, fills = [], 44, {name: _FILLS[at % len(_FILLS)] for at, name in enumerate([ENCODING, *others])}
    for called, parts in rows:
        shapes.append(f'<text x="{_LEFT - 12}" y="{y + 22}" text-anchor="end">{called}</text>')
        x = float(_LEFT)
        for name, taken_s in parts.items():
            width = taken_s * per_s
            fill = fills.get(name, "none")
            outline = ' stroke="#1d1b17"' if fill == "none" else ""
            shapes.append(
                f'<rect x="{x:.1f}" y="{y}" width="{width:.1f}" height="{_BAR}" fill="{fill}"{outline}>'
                f"<title>{escape(name)}: {taken_s:.2f} s</title></rect>"
            )
            x += width
        shapes.append(f'<text x="{x + 6:.1f}" y="{y + 22}" class="fig">{sum(parts.values()):.1f} s</text>')
        y += _BAR + 12
    y += 14
    for name, fill in fills.items():
        shapes.append(f'<rect x="{_LEFT}" y="{y - 11}" width="12" height="12" fill="{fill}"/>')
        shapes.append(f'<text x="{_LEFT + 20}" y="{y}">{escape(name)}</text>')
        shapes.append(f'<text x="{_LEFT + 270}" y="{y}" text-anchor="end" class="fig">{stages[name]:.2f} s</text>')
        y += _LINE
    y += 4
    heading = f"Where the time of one file goes: {minutes} minutes of mono into MP3"
    size = f'viewBox="0 0 {_WIDTH} {y}" width="{_WIDTH}" height="{y}"'
    return (
        f'<svg role="img" xmlns="http://www.w3.org/2000/svg" {size}>\n'
        "<style>text{font:14px system-ui,sans-serif;fill:#1d1b17}.fig{font-variant-numeric:tabular-nums}</style>\n"
        f'<rect width="{_WIDTH}" height="{y}" fill="#fbf8f1"/>\n'
        f'<text x="16" y="26" font-weight="600">{heading}</text>\n' + "\n".join(shapes) + "\n</svg>\n"
    )
