"""Servers that nobody here wrote, from Debian's packages, each in a folder of its own on loopback, for one test."""

import getpass
import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import asyncssh

from sermovox.dispatch.tests.servers import free_port

USER, PASSWORD = "ines", "wood and wire"
_CRYPTED = "$6$sermovox$No/EkHbCVJdtepuYpBTHfmCw5xCYNkaacVgqeSuuDbHXRiWVqMptOXvQmbYL9gxz7GULfbRxNgi.TIZSMbBWe."
"""The password as crypt(3) keeps it."""
_STARTS_IN_S = 20.0


@dataclass(frozen=True)
class Served:
    """A server that answers at `port` of loopback and keeps what it receives in `received`; `process` may be paused."""

    port: int
    received: Path
    process: subprocess.Popen
    key: str = ""


def found(name: str) -> str | None:
    """Where a server's program is, if it is there; most lie where only root looks."""
    return shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")


@contextmanager
def _folder() -> Iterator[Path]:
    """One that servers may get into which run as somebody else."""
    with tempfile.TemporaryDirectory(dir="/tmp") as name:
        top = Path(name)
        top.chmod(0o755)
        (top / "received").mkdir()
        (top / "received").chmod(0o777)
        yield top


@contextmanager
def _running(command: list[str], port: int, top: Path, key: str = "") -> Iterator[Served]:
    with (top / "log").open("wb") as log:
        process = subprocess.Popen(command, cwd=top, stdout=log, stderr=log, start_new_session=True)
        try:
            _wait_for(port, process, top / "log")
            yield Served(port, top / "received", process, key)
        finally:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, 15)
                os.killpg(process.pid, 18)
            with suppress(subprocess.TimeoutExpired):
                process.wait(5)
            with suppress(ProcessLookupError):
                os.killpg(process.pid, 9)
            process.wait()


def _wait_for(port: int, process: subprocess.Popen, log: Path) -> None:
    until = time.monotonic() + _STARTS_IN_S
    while time.monotonic() < until and process.poll() is None:
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise RuntimeError(f"{process.args} does not answer: {log.read_text(errors='replace')}")


@contextmanager
def openssh(more: str = "", *, read_only: bool = False) -> Iterator[Served]:
    """OpenSSH, where who runs the tests gets in with a key."""
    with _folder() as top:
        port = free_port()
        own = asyncssh.generate_private_key("ssh-ed25519")
        own.write_public_key(str(top / "authorized"))
        asyncssh.generate_private_key("ssh-ed25519").write_private_key(str(top / "host"))
        (top / "host").chmod(0o600)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        (top / "conf").write_text(
            f"Port {port}\nListenAddress 127.0.0.1\nHostKey {top}/host\nAuthorizedKeysFile {top}/authorized\n"
            f"StrictModes no\nUsePAM no\nPidFile none\nPermitRootLogin yes\nSubsystem sftp internal-sftp\n"
            f"ForceCommand internal-sftp {'-R ' if read_only else ''}-d {top}/received\n{more}\n"
        )
        command = [str(found("sshd")), "-D", "-e", "-f", str(top / "conf")]
        with _running(command, port, top, own.export_private_key().decode()) as served:
            yield served


@contextmanager
def proftpd(more: str = "") -> Iterator[Served]:
    """ProFTPD, which can tell hashes of files."""
    with _folder() as top:
        port = free_port()
        user = getpass.getuser()
        (top / "users").write_text(f"{USER}:{_CRYPTED}:{os.getuid()}:{os.getgid()}::{top}/received:/bin/sh\n")
        (top / "users").chmod(0o600)
        (top / "conf").write_text(
            f"ServerType standalone\nDefaultAddress 127.0.0.1\nPort {port}\nUser {user}\nGroup root\n"
            f"UseReverseDNS off\nPidFile {top}/pid\nScoreboardFile {top}/scoreboard\nRequireValidShell off\n"
            f"RootLogin on\nWtmpLog off\nTransferLog none\nSystemLog {top}/own.log\nAuthOrder mod_auth_file.c\n"
            f"DelayEngine off\nAuthUserFile {top}/users\nDefaultRoot {top}/received\n"
            f"AllowOverwrite on\nAllowStoreRestart on\n"
            f"ModulePath /usr/lib/proftpd\nLoadModule mod_digest.c\nDigestAlgorithms sha256\n"
            f"{more or 'DigestEngine on'}\n"
        )
        with _running([str(found("proftpd")), "-n", "-c", str(top / "conf")], port, top) as served:
            yield served


@contextmanager
def nginx(more: str = "") -> Iterator[Served]:
    """nginx with its WebDAV, at /shelf/."""
    with _folder() as top:
        port = free_port()
        (top / "users").write_text(f"{USER}:{_CRYPTED}\n")
        loads = "".join(
            f"load_module {path};\n" for path in Path("/usr/lib/nginx/modules").glob("ngx_http_dav_ext_module.so")
        )
        kept = "".join(f"{name}_temp_path {top}/{name};" for name in ("fastcgi", "uwsgi", "scgi", "proxy"))
        (top / "conf").write_text(
            f"{loads}daemon off;\nuser {getpass.getuser()};\nworker_processes 1;\npid {top}/pid;\n"
            f"error_log {top}/own.log;\nevents {{}}\nhttp {{ access_log off; {kept}\n"
            f"client_body_temp_path {top}/body; client_max_body_size 1g;\n"
            f"server {{ listen 127.0.0.1:{port};\nlocation /shelf/ {{ alias {top}/received/;\n"
            "dav_methods PUT DELETE MKCOL COPY MOVE; dav_ext_methods PROPFIND OPTIONS;\n"
            f'auth_basic "shelf"; auth_basic_user_file {top}/users;\n{more} }} }} }}\n'
        )
        command = [str(found("nginx")), "-c", str(top / "conf"), "-p", str(top), "-e", str(top / "own.log")]
        with _running(command, port, top) as served:
            yield served


@contextmanager
def exim(*, most: str = "20M") -> Iterator[Served]:
    """Exim, which puts mail for anybody into one Maildir, and takes it from who knows the password."""
    with _folder() as top:
        port = free_port()
        user = "Debian-exim"
        shutil.chown(top, user)
        shutil.chown(top / "received", user)
        (top / "conf").write_text(
            f"primary_hostname = localhost\nspool_directory = {top}/spool\nlog_file_path = {top}/%slog\n"
            f"pid_file_path = {top}/pid\nexim_user = {user}\nmessage_size_limit = {most}\nacl_smtp_rcpt = known\n"
            "tls_advertise_hosts =\nnever_users = root\nbegin acl\nknown:\n  accept authenticated = *\n"
            "  deny message = relay not permitted\nbegin routers\nall:\n  driver = accept\n  transport = box\n"
            f"begin transports\nbox:\n  driver = appendfile\n  directory = {top}/received\n  maildir_format\n"
            f"  user = {user}\n  group = {user}\nbegin authenticators\nplain:\n  driver = plaintext\n"
            "  public_name = PLAIN\n  server_prompts = :\n  server_set_id = $auth2\n"
            f"  server_condition = ${{if and{{{{eq{{$auth2}}{{{USER}}}}}{{eq{{$auth3}}{{{PASSWORD}}}}}}}}}\n"
        )
        (top / "conf").chmod(0o644)
        command = [str(found("exim4")), "-C", str(top / "conf"), "-bdf", "-oX", f"127.0.0.1.{port}"]
        with _running(command, port, top) as served:
            yield served


@contextmanager
def small(folder: Path, size: str) -> Iterator[None]:
    """A disk of that size in place of a folder. Raises OSError where none may be mounted."""
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={size},mode=777", "tmpfs", folder], capture_output=True
    )
    if mounted.returncode:
        raise OSError("nothing may be mounted here")
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", folder], check=True, capture_output=True)
