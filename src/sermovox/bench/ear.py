"""Learn anew what readers have in common beside the machine: `python -m sermovox.bench.ear` writes the core's ear.npy.

Prompts of three readers of three languages are followed where they are clear; what they sound like there, also under
noise, is then held against what the machine says at the same place.
"""

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from mastering.meters.measurement import measure
from mastering.tests.prompts import LANGUAGES, Take, joined, over_noise
from mastering.words.features import FEATURES
from mastering.words.hearing import Attended, Recording, SpokenScript, attend, powers_in_file
from mastering.words.learning import KNOWN, line_and_weights
from mastering.words.spoken import speak

_SEEDS = (11, 12, 13)
_CLEAR_DB = 40.0
_OVER_NOISE_DB = (40.0, 30.0, 20.0, 15.0, 10.0)


def main() -> None:
    machine, reader = [], []
    for language in LANGUAGES:
        for seed in _SEEDS:
            for said, heard in _pairs(joined(language, seed=seed, snr_db=_CLEAR_DB), language):
                machine.append(said)
                reader.append(heard)
    line, weights = line_and_weights(np.concatenate(machine), np.concatenate(reader))
    np.save(KNOWN, np.concatenate([line, weights]).astype(np.float32))
    print(f"{KNOWN}: {FEATURES} features from {sum(map(len, reader))} rows")


def _pairs(take: Take, language: str) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """What the machine and the reader sound like at the same places, shape (rows, FEATURES) each, at each noise."""
    with tempfile.TemporaryDirectory() as name:
        path = take.write(Path(name) / "clear.wav")
        clear = attend(path, take.lines, language=language, envelope=measure(path).levels.envelope)
        spoken = list(speak(take.lines, language))
        for snr_db in _OVER_NOISE_DB:
            noisy = Take(over_noise(take.samples, snr_db, seed=7), take.lines, take.places).write(Path(name) / "n.wav")
            recording = Recording(powers_in_file(noisy, lambda share: None), measure(noisy).levels.envelope)
            script = SpokenScript(take.lines, iter(spoken), recording, warps=[clear.script.warp])
            rows = _spoken_rows(clear)[: len(recording.sample)]
            features = recording.voice.features(recording.sample)[: len(rows)]
            yield script.states.templates[clear.way.states[: len(rows)][rows]], features[rows]


def _spoken_rows(clear: Attended) -> np.ndarray:
    told: np.ndarray = (clear.way.states >= 0) & (clear.recording.speech.share > 0.5)
    told &= clear.states.speech[np.maximum(clear.way.states, 0)]
    return told


if __name__ == "__main__":
    main()
