"""What is installed beside Sermovox itself: its extras, as the package declares them."""

import re
import sys
from importlib.metadata import PackageNotFoundError, distribution, requires

_OF_EXTRA = re.compile(r"""([A-Za-z0-9._-]+).*;.*\bextra == ['"]([a-z]+)['"]""")


def missing(extra: str) -> list[str]:
    """The packages of an extra that are not installed.

    >>> missing("nothing of that name")
    []
    """
    found = map(_OF_EXTRA.match, requires("sermovox") or ())
    return [each[1] for each in found if each and each[2] == extra and not _is_installed(each[1])]


def install_command(extra: str) -> str:
    """What is typed to install an extra beside this Sermovox."""
    return f"{sys.executable} -m pip install 'sermovox[{extra}]'"


def _is_installed(name: str) -> bool:
    try:
        distribution(name)
    except PackageNotFoundError:
        return False
    return True
