"""What WAV and AIFF headers promise, read directly, because libav quietly shortens a promise it cannot keep."""

from pathlib import Path

from mastering.audio.chunks import chunks, is_aiff, is_wave

_NEARLY = 1 << 16
"""How far below the largest size of 31 or 32 bits one lies that stands for no size (common practice, no source)."""


def missing_audio_fraction(path: Path) -> float:
    """Return how much of the audio its own header promises is not in the file, from 0.0 to 1.0.

    Only WAV, RF64 and AIFF are looked at; any other file returns 0.0.
    """
    size_bytes = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        wanted = b"data" if is_wave(head) else b"SSND" if is_aiff(head) else None
        if wanted is None:
            return 0.0
        sound = next((each for each in chunks(file) if each.name == wanted), None)
    if sound is None or _stands_for_none(sound.size):
        return 0.0
    return max(0.0, 1.0 - (size_bytes - sound.start) / sound.size)


def _stands_for_none(size: int) -> bool:
    """Whether a size is what a program leaves behind that writes into a pipe and cannot go back to fill it in."""
    return size == 0 or any(limit - _NEARLY <= size <= limit for limit in (1 << 31, 1 << 32))
