"""What the commands and the processes say, in the language of the terminal."""

import os
from typing import Any

from mastering.said import language_of, speak, word

LANGUAGE = language_of(os.environ)


def spoken(text: str) -> str:
    """A sentence in the language of the terminal, and what the code calls something by; other text as it is."""
    return speak(word(text), LANGUAGE)


def say(*texts: str, **how: Any) -> None:
    """Print sentences; `how` as for print."""
    print(*map(spoken, texts), **how)
