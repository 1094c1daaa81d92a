"""Which tests the changes of this checkout touch, by what imports what: printed, as they are given to the test runner.

Changed is what differs from the branch that is followed, or from the last commit where none is, and what is new.
"""

import subprocess
from pathlib import Path

import grimp

from sermovox.tests.kept import SOURCE

_TOP = SOURCE.parent


def changed_files() -> list[Path]:
    """The changed files, below the checkout."""
    followed = _git("rev-parse", "--abbrev-ref", "@{upstream}")
    names = [
        *_git("diff", "--name-only", followed[0] if followed else "HEAD"),
        *_git("ls-files", "-o", "--exclude-standard"),
    ]
    return [Path(name) for name in names]


def tests_of(files: list[Path]) -> list[str]:
    """The modules of tests that import what changed, however far off, and those of the app in which it lies."""
    graph = grimp.build_graph("mastering", "sermovox", cache_dir=None)
    touched: set[str] = set()
    for path in files:
        if path.parts[:1] != ("src",) or len(path.parts) < 3:
            continue
        module = ".".join(path.with_suffix("").parts[1:]).removesuffix(".__init__")
        if path.suffix == ".py" and module in graph.modules:
            touched |= {module} | graph.find_downstream_modules(module, as_package=False)
        # A template or script is imported by nothing.
        touched |= {each for each in graph.modules if each.startswith(f"{'.'.join(path.parts[1:3])}.tests.")}
    return sorted(each for each in touched if ".tests.test_" in each)


def _git(*words: str) -> list[str]:
    told = subprocess.run(["git", "-C", str(_TOP), *words], capture_output=True, text=True)
    return told.stdout.splitlines() if told.returncode == 0 else []


if __name__ == "__main__":
    print("\n".join(tests_of(changed_files())))
