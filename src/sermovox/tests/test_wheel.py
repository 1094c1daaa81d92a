"""The wheel: built, installed into a clean environment outside the checkout, and looked at from there."""

import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import sysconfig
import tempfile
import time
import urllib.request
import venv
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.tests.signals import noise, written
from mastering.words.spoken import RATE_HZ, speak

CHECKOUT = Path(__file__).parents[3]
_PATIENCE_S = 90


class Wheel(TestCase):
    takes_long = True

    def setUp(self):
        self.top = Path(tempfile.mkdtemp(prefix="wheel-"))
        self.addCleanup(shutil.rmtree, self.top, ignore_errors=True)

    def test_its_demonstration_runs_from_a_clean_environment_and_keeps_its_data_in_the_user_s_place(self):
        command, home = self.installed(), self.top / "home"
        home.mkdir()
        outside = {"PATH": os.environ["PATH"], "HOME": str(home), "OPENBLAS_NUM_THREADS": "1"}
        said = subprocess.run([command, "outlets"], env=outside, cwd=home, capture_output=True, text=True, check=True)
        self.assertIn("audiobook-retail", said.stdout)
        self.listens(command, outside)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        with (self.top / "log").open("w") as log:
            running = subprocess.Popen(
                [command, "demo", "--port", str(port), "--workers", "1"], env=outside, cwd=home, stdout=log, stderr=log
            )
        try:
            deadline = time.monotonic() + _PATIENCE_S
            while "is ready at" not in (self.top / "log").read_text():
                self.assertIsNone(running.poll(), (self.top / "log").read_text())
                self.assertLess(time.monotonic(), deadline, "it did not start")
                time.sleep(0.2)
            page = self.fetched(port, "/")
            self.assertIn("The Lamp and the Barometer", page)
            assets = re.findall(r'(?:href|src)="(/static/[^"]+)"', page)
            self.assertTrue(any(".css" in each for each in assets) and any(".js" in each for each in assets))
            for each in assets:
                self.assertTrue(self.fetched(port, each, binary=True), each)
        finally:
            running.send_signal(signal.SIGTERM)
            running.wait(30)
        data = home / ".local" / "share" / "sermovox" / "demo"
        self.assertTrue((data / "sermovox.sqlite3").exists() and list((data / "recordings").glob("*/*")))

    def listens(self, command: Path, outside: dict[str, str]) -> None:
        """The machine's voice and what is known of readers came along."""
        line = "The lamp was lit, and nobody had seen the keeper."
        quiet = noise(-70, 0.5, rate_hz=RATE_HZ)
        (spoken,) = speak([line], "en")
        said = np.concatenate([quiet, spoken.samples[:, None] / np.float32(1 << 16), quiet])
        take, script = written(self.top, said, rate_hz=RATE_HZ), self.top / "script.txt"
        script.write_text(line)
        said = subprocess.run(
            [command, "words", take, "--script", script], env=outside, capture_output=True, text=True, check=True
        )
        self.assertRegex(said.stdout, rf"^0\.5\d\d\t\d\.\d{{3}}\t{line}\n$")

    def installed(self) -> Path:
        """The command of a wheel in an environment that sees the packages of this one, but not the checkout."""
        source = self.top / "source"
        shutil.copytree(CHECKOUT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
        for name in ("pyproject.toml", "README.md", "LICENSE"):
            shutil.copy(CHECKOUT / name, source)
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
        build = [*pip, "wheel", "--no-deps", "--no-build-isolation", "--no-index", "-w", self.top, source]
        subprocess.run(build, check=True, capture_output=True)
        (wheel,) = self.top.glob("*.whl")
        venv.create(self.top / "env")
        (own,) = (self.top / "env" / "lib").glob("python*/site-packages")
        (own / "needed.pth").write_text(sysconfig.get_path("purelib"))
        python = self.top / "env" / "bin" / "python"
        install = [*pip, "--python", python, "install", "--no-deps", "--no-index", "--ignore-installed", wheel]
        subprocess.run(install, check=True, capture_output=True)
        where = subprocess.run(
            [python, "-c", "import sermovox; print(sermovox.__file__)"], capture_output=True, text=True
        )
        self.assertIn(str(own), where.stdout)
        return self.top / "env" / "bin" / "sermovox"

    def fetched(self, port: int, path: str, *, binary: bool = False):
        with urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=30) as answer:
            content = answer.read()
        return content if binary else content.decode()
