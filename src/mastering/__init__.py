"""The rules of the job and all its computation: audio in, levels, shaping, finished and checked files out.

Nothing here knows of a web page or a database. Audio travels as an iterator of float32 blocks of shape
(frames, channels), full scale 1.0, so that no stage ever holds a whole recording.
"""

VERSION = "4"
"""Changes whenever the same recording and rules would give other bytes or other figures. Caches carry it."""
