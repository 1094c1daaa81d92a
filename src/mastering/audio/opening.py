"""Files opened by libav, whoever sent them."""

from pathlib import Path

import av
from av.container import InputContainer

from mastering.audio.chunks import WAVES

_PROBED_BYTES = 32768


def open_safely(path: Path) -> InputContainer:
    """Open a file for reading. Raises av.error.FFmpegError, ValueError or OSError.

    A file may name other files or addresses (playlists, concat scripts); only the file itself is read.
    """
    options = {"protocol_whitelist": "file"}
    with path.open("rb") as file:
        if file.read(4) in WAVES:
            # libav looks for compressed sound hidden in PCM; without a limit, in the first five megabytes.
            options["probesize"] = str(_PROBED_BYTES)
    return av.open(str(path.absolute()), options=options)
