"""The application: Django apps, tasks and the command line."""

import os

# Before NumPy is loaded: the threads of linear algebra bring nothing to the meters, and take the core that encodes.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from pathlib import Path

from mastering.said import known

known(Path(__file__).parent / "sentences")
