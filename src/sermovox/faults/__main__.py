"""Random faults over a load, judged after each: `bin/faults`. With `--power`, power cuts instead; with `--sending`,
what may happen to files on their way out.
"""

import argparse
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from sermovox.faults.client import Visitor
from sermovox.faults.harm import FAULTS, Application
from sermovox.faults.judge import losses, pages_that_fail, wait_until_still
from sermovox.faults.load import Ledger, Load

_SMALL_DISK_BYTES = 400 << 20
_FAULTS_AN_APPLICATION = 40
_STILL_WITHIN_S = 120.0
_PREPARE = """
import django; django.setup()
from django.core.management import call_command; call_command("migrate", verbosity=0)
from django.contrib.auth import get_user_model
from sermovox.accounts.models import DEMO_USERNAME
from sermovox.productions.models import Production
narrator = get_user_model().objects.create_user(DEMO_USERNAME, first_name="Narrator")
print(Production.objects.create(owner=narrator, title="Faults", author="A").pk)
"""


def main() -> int:
    parser = argparse.ArgumentParser(prog="faults", description=__doc__)
    parser.add_argument("--count", type=int, default=100, help="how many faults, or points of power cuts")
    parser.add_argument("--seed", type=int, default=0, help="which ones")
    parser.add_argument("--minutes", type=float, default=1e9, help="stop after so long")
    parser.add_argument("--power", action="store_true", help="power cuts: what was not flushed is dropped")
    parser.add_argument("--sending", action="store_true", help="sendings: kills, cut lines, planted and damaged files")
    parser.add_argument("--keep", action="store_true", help="keep the folder of an application that lost something")
    asked = parser.parse_args()
    if asked.power:
        from sermovox.faults import powercut

        return powercut.main(asked.count, asked.seed)
    if asked.sending:
        from sermovox.faults import sendings

        return sendings.main(asked.count, asked.seed)
    outcome = run(asked.count, asked.seed, minutes=asked.minutes, keep=asked.keep, told=True)
    print(outcome.table())
    return 1 if outcome.lost else 0


class Outcome:
    """What was done and what was lost."""

    def __init__(self):
        self.counts: Counter[str] = Counter()
        self.lost: list[tuple[str, str]] = []
        self.uploads = self.deeds = 0
        self.impossible = ""

    def table(self) -> str:
        lines = ["| fault | count | lost |", "| --- | --- | --- |"]
        for name in FAULTS:
            if self.counts[name]:
                lines.append(f"| {name} | {self.counts[name]} | {sum(each == name for each, _ in self.lost)} |")
        lines.append(f"| all | {self.counts.total()} | {len(self.lost)} |")
        lines.append(f"\n{self.uploads} acknowledged uploads, {self.deeds} things done meanwhile. {self.impossible}")
        return "\n".join([*lines, *(f"{name}: {said}" for name, said in self.lost)])


def run(
    count: int,
    seed: int,
    *,
    minutes: float = 1e9,
    keep: bool = False,
    told: bool = False,
    people: int = 3,
    workers: int = 2,
    database: Path | None = None,
) -> Outcome:
    """Do so many faults, a new application after every forty; so many people are at work meanwhile. `database` is one
    that is made already and empty.
    """
    outcome, chance, began = Outcome(), random.Random(seed), time.monotonic()
    while outcome.counts.total() < count and time.monotonic() - began < minutes * 60:
        folder = Path(tempfile.mkdtemp(prefix="faults-"))
        left = min(_FAULTS_AN_APPLICATION, count - outcome.counts.total())
        before = len(outcome.lost)
        application = Application(folder, small_disk_bytes=_SMALL_DISK_BYTES, workers=workers)
        if database:
            shutil.copy(database, application.data)
        _faults(application, left, chance, outcome, until=began + minutes * 60, people=people)
        if len(outcome.lost) == before or not keep:
            shutil.rmtree(folder, ignore_errors=True)
        if told:
            done, took_s = outcome.counts.total(), time.monotonic() - began
            rest_min = took_s / max(1, done) * (count - done) / 60
            print(
                f"{done} faults, {len(outcome.lost)} lost, about {rest_min:.0f} min left", file=sys.stderr, flush=True
            )
    return outcome


def _faults(
    application: Application, count: int, chance: random.Random, outcome: Outcome, *, until: float, people: int
) -> None:
    weights = {name: weight for name, (_, weight) in FAULTS.items()}
    if not application.has_small_disk:
        weights["disk filled"] = 0
        outcome.impossible = "This machine mounts no small disk, so that none was filled."
    ledger = Ledger()
    try:
        prepared = subprocess.run(
            [sys.executable, "-c", _PREPARE], env=application.environment, capture_output=True, text=True, check=True
        )
        production = int(prepared.stdout)
        application.start()
        for _ in range(count):
            if time.monotonic() > until:
                break
            (name,) = chance.choices(list(weights), list(weights.values()))
            load = Load(
                application.port, application.data, production, ledger, seed=chance.getrandbits(32), people=people
            )
            load.begin()
            time.sleep(chance.uniform(0.1, 1.2))
            FAULTS[name][0](application, chance)
            application.wait()
            time.sleep(chance.uniform(0.0, 0.4))
            load.end()
            outcome.counts[name] += 1
            left = wait_until_still(application.data, within_s=_STILL_WITHIN_S)
            found = [f"stuck: {each}" for each in left]
            found += losses(application.data, ledger.here, ledger.let_go)
            found += pages_that_fail(Visitor(application.port), application.data, production, chance)
            outcome.lost += [(name, said) for said in found]
            for said in found:
                print(f"{name}: {said} ({application.folder})", file=sys.stderr, flush=True)
        outcome.lost += [("backups", said) for said in _wrong_backups(application)]
    finally:
        outcome.uploads += len(ledger.here)
        outcome.deeds += ledger.done
        application.end()


def _wrong_backups(application: Application) -> list[str]:
    """Every backup that was made meanwhile, read in a process of its own."""
    folder = application.folder / "backups"
    if not list(folder.glob("copies/*/contents.json")):
        return []
    command = [sys.executable, "-m", "sermovox.cli", "verify", str(folder)]
    done = subprocess.run(command, env=application.environment, capture_output=True, text=True)
    return [line for line in done.stdout.splitlines() if " is damaged. " in line or " is missing. " in line]


if __name__ == "__main__":
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    sys.exit(main())
