"""The broker of a fleet on this computer: mosquitto with a certificate of its own and a password for each device."""

from __future__ import annotations

import datetime
import ipaddress
import os
import secrets
import shutil
import socket
import ssl
import subprocess
import time
from pathlib import Path
from typing import Any

from plucky_heron.errors import StateError
from plucky_heron.files import write_whole
from plucky_heron.rigs.tools import ends_with_us, needed

PACKAGES = "mosquitto"
COORDINATOR = "coordinator"


def make_certificates(folder: Path) -> None:
    """A certificate authority and a certificate for the loopback address, for a year."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
    from cryptography.x509.oid import NameOID

    def name(text: str) -> x509.Name:
        return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])

    def begun(subject: str, issuer: str, key: Any) -> x509.CertificateBuilder:
        now = datetime.datetime.now(datetime.UTC)
        return (
            x509.CertificateBuilder().subject_name(name(subject)).issuer_name(name(issuer)).public_key(key.public_key())
            .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=1)).not_valid_after(now + datetime.timedelta(days=365))
        )  # fmt: skip

    authority, server = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    ca = (
        begun("fleet", "fleet", authority)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(authority, hashes.SHA256())
    )
    own = x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))])
    certificate = (
        begun("127.0.0.1", "fleet", server).add_extension(own, critical=False).sign(authority, hashes.SHA256())
    )
    write_whole(folder / "ca.pem", ca.public_bytes(Encoding.PEM))
    write_whole(folder / "server.pem", certificate.public_bytes(Encoding.PEM))
    write_whole(folder / "server.key", server.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    (folder / "server.key").chmod(0o600)


class Broker:
    """mosquitto in a process of its own; what it had to deliver survives its restart.

    Raises
    ------
    StateError
        It is not installed, or does not start.
    """

    def __init__(self, folder: Path, devices: list[str]) -> None:
        self.folder = folder
        self._process: subprocess.Popen[bytes] | None = None
        there = shutil.which("mosquitto", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
        program = there or needed("mosquitto", PACKAGES)
        passwd = needed("mosquitto_passwd", PACKAGES)
        folder.mkdir(parents=True, exist_ok=True)
        if not (folder / "server.pem").exists():
            make_certificates(folder)
        self.passwords = {name: self._password(name) for name in (COORDINATOR, *devices)}
        lines = "".join(f"{name}:{word}\n" for name, word in self.passwords.items())
        write_whole(folder / "users", lines)
        (folder / "users").chmod(0o600)
        done = subprocess.run([passwd, "-U", str(folder / "users")], capture_output=True, check=False)
        if done.returncode != 0:
            raise StateError(f"mosquitto_passwd: {done.stderr.decode(errors='replace').strip()}")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        write_whole(folder / "access", f"user {COORDINATOR}\ntopic readwrite heron/#\npattern readwrite heron/%u/#\n")
        (folder / "access").chmod(0o600)
        write_whole(
            folder / "mosquitto.conf",
            f"listener {self.port} 127.0.0.1\ncafile {folder / 'ca.pem'}\ncertfile {folder / 'server.pem'}\nkeyfile {folder / 'server.key'}\n"
            f"allow_anonymous false\npassword_file {folder / 'users'}\nacl_file {folder / 'access'}\npersistence true\npersistence_location {folder}/\n"
            "autosave_interval 1\nlog_type error\nlog_dest stderr\n" + ("user root\n" if _is_root() else ""),
        )
        self._program = program
        self.start()

    def _password(self, name: str) -> str:
        path = self.folder / f"{name}.password"
        if not path.exists():
            write_whole(path, secrets.token_hex(16))
            path.chmod(0o600)
        return path.read_text()

    def start(self) -> None:
        """Start it, and wait until it takes connections."""
        with (self.folder / "broker.log").open("ab") as log:
            self._process = subprocess.Popen(
                [*ends_with_us(), self._program, "-c", str(self.folder / "mosquitto.conf")],
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
            )
        until = time.monotonic() + 10.0
        while True:
            try:
                socket.create_connection(("127.0.0.1", self.port), timeout=0.5).close()
                return
            except OSError as error:
                if self._process.poll() is not None or time.monotonic() > until:
                    raise StateError(f"the broker did not start; see {self.folder / 'broker.log'}") from error
                time.sleep(0.05)

    def stop(self) -> None:
        """End it, by its own handle."""
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(timeout=5.0)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            self._process = None


def _is_root() -> bool:
    return os.geteuid() == 0


def connected(name: str, password: str, port: int, authority: Path, lasting: bool) -> Any:
    """An MQTT client over TLS that comes back by itself; not connected yet."""
    from paho.mqtt.client import Client
    from paho.mqtt.enums import CallbackAPIVersion

    client = Client(CallbackAPIVersion.VERSION2, client_id=f"heron-{name}", clean_session=not lasting)
    client.username_pw_set(name, password)
    client.tls_set(ca_certs=str(authority), tls_version=ssl.PROTOCOL_TLS_CLIENT)
    client.reconnect_delay_set(1, 2)
    return client
