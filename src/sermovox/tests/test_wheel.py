"""The wheel, installed as users install it: into a clean environment outside the checkout, without what tests want."""

import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
import zipfile
from contextlib import contextmanager, suppress
from pathlib import Path
from unittest import TestCase

import numpy as np
from playwright.sync_api import expect

from mastering.tests.signals import noise, speech, written
from mastering.words.spoken import RATE_HZ, speak
from sermovox.demo.scenario import PLACES
from sermovox.tests import kept
from sermovox.ui.tests.running import brought_in, in_a_browser

CHECKOUT = Path(__file__).parents[3]
_PATIENCE_S = 120
_STAND_INS = 5


def free_ports(count: int) -> int:
    """The first of so many free ports in a row."""
    while True:
        with socket.socket() as first:
            first.bind(("127.0.0.1", 0))
            port = first.getsockname()[1]
        with suppress(OSError):
            for each in range(port, port + count):
                socket.create_server(("127.0.0.1", each)).close()
            return port


@contextmanager
def running(log: Path, command: list, *, port: int, **how):
    """It runs, and has nothing to complain of in its log in the end, and leaves nothing behind."""
    with log.open("w") as written_to:
        process = subprocess.Popen(
            [*command, "--port", str(port), "--workers", "1"], stdout=written_to, stderr=written_to, **how
        )
    told, hold = log.read_text, TestCase()
    try:
        deadline = time.monotonic() + _PATIENCE_S
        while "is ready at" not in told():
            hold.assertIsNone(process.poll(), told())
            hold.assertLess(time.monotonic(), deadline, "it did not start")
            time.sleep(0.1)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(30)
    for sign in ("Traceback", "starting it again", "cannot be started", "rror"):
        hold.assertNotIn(sign, told())
    socket.create_server(("127.0.0.1", port)).close()


def fetched(address: str, path: str) -> str:
    """What a page of it answers; nothing where it is not there."""
    with suppress(urllib.error.HTTPError), urllib.request.urlopen(f"{address}{path}", timeout=30) as answer:
        return answer.read().decode("latin-1")
    return ""


class Checkout(TestCase):
    """`bin/demo` of the checkout, in the environment that is there."""

    takes_long = True

    def test_the_demonstration_runs_with_all_its_stand_ins(self):
        top = Path(self.enterContext(tempfile.TemporaryDirectory(ignore_cleanup_errors=True)))
        shutil.copytree(brought_in(), top / "data")
        port = free_ports(_STAND_INS + 1)
        where = {"SERMOVOX_DATA": str(top / "data"), "SERMOVOX_STAND_IN_PORT": str(port + 1)}
        command = [CHECKOUT / "bin" / "demo"]
        with running(top / "log", command, port=port, cwd=top, env=os.environ | where) as address:
            self.assertIn("The Lamp and the Barometer", fetched(address, "/"))
            for at in range(1, _STAND_INS + 1):
                self.assertTrue(answers(port + at), f"stand-in {at} of {_STAND_INS} does not answer")


def answers(port: int) -> bool:
    """Whether something listens there within the patience of these tests."""
    deadline = time.monotonic() + _PATIENCE_S
    while time.monotonic() < deadline:
        with suppress(OSError):
            socket.create_connection(("127.0.0.1", port), 5).close()
            return True
        time.sleep(0.1)
    return False


class Installed(TestCase):
    """`sermovox` as a command of an environment of its own, with a home of its own."""

    takes_long = True

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        # On the disk of what was fetched before, so that nothing is copied.
        kept.FOLDER.mkdir(parents=True, exist_ok=True)
        cls.top = Path(tempfile.mkdtemp(prefix="wheel-", dir=kept.FOLDER))
        cls.addClassCleanup(shutil.rmtree, cls.top, ignore_errors=True)
        cls.wheel = cls.built()
        environment = cls.top / "env"
        cls.uv("venv", "--python", sys.executable, environment)
        cls.uv("pip", "install", "--python", environment / "bin" / "python", str(cls.wheel))
        cls.packages = {path.name for path in (environment / "lib").glob("python*/site-packages/*")}
        cls.command = environment / "bin" / "sermovox"
        cls.home = cls.top / "home"
        cls.home.mkdir()
        cls.outside = {"PATH": os.environ["PATH"], "HOME": str(cls.home), "OPENBLAS_NUM_THREADS": "1"}

    @classmethod
    def built(cls) -> Path:
        source = cls.top / "source"
        shutil.copytree(CHECKOUT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
        for name in ("pyproject.toml", "README.md", "LICENSE"):
            shutil.copy(CHECKOUT / name, source)
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
        build = [*pip, "wheel", "--no-deps", "--no-build-isolation", "--no-index", "-w", cls.top, source]
        subprocess.run(build, check=True, capture_output=True)
        (wheel,) = cls.top.glob("*.whl")
        return wheel

    @classmethod
    def uv(cls, *words) -> None:
        """Without the network where that does: what was fetched once is kept."""
        command = [Path(sys.executable).with_name("uv"), "--quiet", *words]
        if subprocess.run([*command, "--offline"], capture_output=True).returncode:
            subprocess.run(command, check=True)

    def run_(self, *words, **environment: str) -> subprocess.CompletedProcess:
        outside = self.outside | environment
        return subprocess.run([self.command, *words], env=outside, cwd=self.home, capture_output=True, text=True)

    def running(self, word: str, *, port: int, **environment: str):
        where = self.outside | environment
        return running(self.top / f"{word}.log", [self.command, word], port=port, cwd=self.home, env=where)

    def test_it_holds_what_users_need_and_nothing_else(self):
        names = zipfile.ZipFile(self.wheel).namelist()
        self.assertEqual([name for name in names if re.search(r"/(tests|bench|walks|faults)/", name)], [])
        servers = {"moto", "flask", "pyftpdlib", "wsgidav", "aiosmtpd", "cheroot", "OpenSSL"}
        self.assertEqual(self.packages & (servers | {"playwright", "hypothesis"}), set())
        self.assertIn("audiobook-retail", self.run_("outlets").stdout)

    def test_the_machine_s_voice_and_what_is_known_of_readers_came_along(self):
        line = "The lamp was lit, and nobody had seen the keeper."
        quiet = noise(-70, 0.5, rate_hz=RATE_HZ)
        (spoken,) = speak([line], "en")
        said = np.concatenate([quiet, spoken.samples[:, None] / np.float32(1 << 16), quiet])
        take, script = written(self.top, said, rate_hz=RATE_HZ), self.top / "script.txt"
        script.write_text(line)
        self.assertRegex(self.run_("words", take, "--script", script).stdout, rf"^0\.5\d\d\t\d\.\d{{3}}\t{line}\n$")

    def test_from_the_first_account_to_a_finished_file(self):
        take = written(self.top, speech(seconds=6), name="the weir.wav")
        with self.running("start", port=free_ports(1)) as address, in_a_browser() as browser:
            page = browser.new_page(base_url=address)
            page.goto("/")
            expect(page.get_by_role("heading", name="Make the first account")).to_be_visible()
            page.get_by_label("Name to sign in with").fill("ilse")
            page.get_by_label("Password", exact=True).fill("salt cedar ford")
            page.get_by_label("The password once more").fill("salt cedar ford")
            page.keyboard.press("Enter")
            expect(page.locator(".running-head")).to_contain_text("ilse")
            page.get_by_role("button", name="Sign out").click()
            page.get_by_label("Name").fill("ilse")
            page.get_by_label("Password").fill("salt cedar ford")
            page.keyboard.press("Enter")
            expect(page.locator(".running-head")).to_contain_text("ilse")
            page.goto("/productions/new/")
            page.keyboard.type("The Weir")
            page.keyboard.press("Enter")
            page.get_by_label("Recordings to bring in").set_input_files([str(take)])
            expect(page.locator("#rows input[name=section]:enabled")).to_have_count(1, timeout=60000)
            page.get_by_role("checkbox", name="Volunteer reading archive").check()
            page.keyboard.press("m")
            expect(page.locator("#run[data-running=no]")).to_contain_text("passes", timeout=60000)
            with page.expect_download() as download:
                page.get_by_role("link", name="Download all as ZIP").click()
            self.assertIn("01-the-weir.mp3", zipfile.ZipFile(download.value.path()).namelist())
        self.assertRegex(self.run_("account", "list").stdout, r"^ilse +ilse +last signed in")
        self.assertTrue((self.home / ".local" / "share" / "sermovox" / "sermovox.sqlite3").exists())

    def test_the_demonstration_says_what_it_lacks_and_with_that_arrives_at_every_stand_in(self):
        done = self.run_("demo")
        self.assertEqual((done.returncode, done.stdout), (1, ""))
        self.assertRegex(done.stderr, r"^sermovox: The demonstration .*-m pip install 'sermovox\[demo\]'\n$")
        self.uv("pip", "install", "--python", self.command.with_name("python"), f"{self.wheel}[demo]")
        port = free_ports(_STAND_INS + 1)
        data = self.home / ".local" / "share" / "sermovox" / "demo"
        ports = {"SERMOVOX_STAND_IN_PORT": str(port + 1)}
        with self.running("demo", port=port, **ports) as address:
            page = fetched(address, "/")
            self.assertIn("The Lamp and the Barometer", page)
            assets = re.findall(r'(?:href|src)="(/static/[^"]+)"', page)
            self.assertTrue(any(".css" in each for each in assets) and any(".js" in each for each in assets))
            for each in assets:
                self.assertTrue(fetched(address, each), each)
            deadline = time.monotonic() + _PATIENCE_S
            while 'data-running="no"' not in fetched(address, "/deliveries/1/"):
                self.assertLess(time.monotonic(), deadline, "its first files were not made")
                time.sleep(0.5)
            for outlet in PLACES:
                sent = self.run_("send", "1", "--to", outlet, SERMOVOX_DATA=str(data), **ports)
                self.assertEqual(sent.returncode, 0, f"{outlet}: {sent.stdout}{sent.stderr}")
        received = {path.parent.name for path in data.glob("stand-ins/*/received") if any(path.rglob("*.*"))}
        self.assertEqual(received, {stand_in.name for stand_in, _, _ in PLACES.values()})
