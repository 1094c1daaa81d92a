"""Clicks put into recorded speech; `python -m mastering.tests.clicks` learns anew what tells them from plosives."""

from collections.abc import Iterator
from pathlib import Path

import av
import numpy as np
import scipy

from mastering.meters import clicks as finding

VOICES = Path("/usr/share/asterisk/sounds")
"""Debian's asterisk-core-sounds-*-g722: human voices, 16 kHz."""
RATE_HZ = 16000
QUIETEST = 10 ** (-36 / 20)


def apart() -> list[Path]:
    """A hundred English prompts of a second or more that nothing is learned from; none where they are not installed."""
    return [path for path in sorted(VOICES.glob("en_*/*.g722")) if path.stat().st_size > 9000][:100]


def prompt(path: Path) -> np.ndarray:
    """A prompt in G.722 as float64 of shape (frames,), 16 kHz."""
    with av.open(str(path), format="g722") as container:
        frames = [frame.to_ndarray().ravel() for frame in container.decode(audio=0)]
    return np.concatenate(frames) / 32768


def click(chance: np.random.Generator, rate_hz: int) -> np.ndarray:
    """One of 0.2 to 3 ms with a peak of 1: a tick, a ringing one, or a burst that dies away."""
    length_s = chance.uniform(0.0002, 0.003)
    times_s = np.arange(max(1, round(length_s * rate_hz))) / rate_hz
    kind = chance.choice(["tick", "ring", "burst"])
    if kind == "tick":
        shape = np.where(times_s < times_s[-1] / 2 + 1e-9, 1.0, -0.7)
    elif kind == "ring":
        hz = chance.uniform(1200, min(6000, 0.45 * rate_hz))
        shape = np.exp(-4 * times_s / length_s) * np.cos(2 * np.pi * hz * times_s + chance.uniform(0, 2 * np.pi))
    else:
        shape = np.exp(-4 * times_s / length_s) * chance.normal(size=len(times_s))
    told: np.ndarray = shape / np.abs(shape).max()
    return told


def spoilt(
    samples: np.ndarray, rate_hz: int, chance: np.random.Generator, times: tuple[float, float]
) -> tuple[np.ndarray, list[tuple[int, int]]]:
    """Speech with clicks so many times as high as all within 20 ms, and where they lie, [start, end)."""
    sound, places, at_s = samples.copy(), [], 0.1
    while at_s < len(samples) / rate_hz - 0.1:
        at, around = round(at_s * rate_hz), round(0.020 * rate_hz)
        shape = click(chance, rate_hz)
        highest = np.abs(samples[max(0, at - around) : at + around]).max()
        height = max(highest * chance.uniform(*times), QUIETEST) * chance.choice([-1, 1])
        sound[at : at + len(shape)] += height * shape
        places.append((at, at + len(shape)))
        at_s += chance.uniform(0.15, 1.5)
    return np.clip(sound, -1, 1), places


def _rows(samples: np.ndarray, seed: int) -> Iterator[tuple[float, np.ndarray]]:
    """What stands out in a prompt (0), and clicks put into it (1), with their features."""
    chance = np.random.default_rng(seed)
    for times in (None, (0.5, 1.0), (1.0, 2.0), (2.0, 4.0)):
        sound, places = (samples, []) if times is None else spoilt(samples, RATE_HZ, chance, times)
        for place in finding.candidates(sound, RATE_HZ):
            is_click = any(start - 16 <= place <= end + 16 for start, end in places)
            if is_click or times is None:
                around = finding._around(sound, place, RATE_HZ)
                yield float(is_click), finding.features(sound, place, *around, RATE_HZ)


def _learned(answers: np.ndarray, found: np.ndarray) -> np.ndarray:
    """Weights of a logistic regression, the constant first; what is no click counts three times."""
    rows, heavy = np.column_stack([np.ones(len(found)), found]), np.where(answers, 1.0, 3.0)

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        told = rows @ weights
        error = heavy * (scipy.special.expit(told) - answers)
        size = np.append(0, weights[1:])
        wrong = (heavy * (np.logaddexp(0, told) - answers * told)).sum() + 0.5 * size @ size
        return wrong, rows.T @ error + size

    return scipy.optimize.minimize(loss, np.zeros(rows.shape[1]), jac=True, options={"maxiter": 5000}).x


if __name__ == "__main__":
    english = sorted(VOICES.glob("en_*/*.g722"))
    kept_apart = set(apart())
    others = [path for path in sorted(VOICES.rglob("*.g722")) if path not in english]
    learned_from = [p for p in [*english, *others[::3]] if p not in kept_apart and 9000 < p.stat().st_size < 64000]
    rows = [row for seed, path in enumerate(learned_from) for row in _rows(prompt(path), seed)]
    answers, found = np.array([row[0] for row in rows]), np.array([row[1] for row in rows])
    weights = _learned(answers, found)
    told = np.column_stack([np.ones(len(found)), found]) @ weights
    print("_WEIGHTS =", np.round(weights, 2).tolist())
    print(
        f"{len(learned_from)} prompts; what stands out without being a click:",
        np.sort(told[answers == 0])[::-1][:24].round(2),
    )
