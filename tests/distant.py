"""Real sshd and snmpd on loopback, for what is collected from afar."""

from __future__ import annotations

import atexit
import getpass
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import threading
from pathlib import Path

from balise.api.credentials import Snmp2Credential, Snmp3Credential, SnmpAuth, SnmpPrivacy, SshCredential
from balise.api.remote import FollowedFile, RemoteTarget
from running import free_port, until

SSHD = shutil.which("sshd", path="/usr/sbin:/sbin:/usr/bin")
SNMPD = shutil.which("snmpd", path="/usr/sbin:/sbin:/usr/bin")
COMMUNITY, USER, AUTH, PRIVACY = "kitpub", "kitv3", "authpass123", "privpass123"


def keypair(folder: Path, name: str) -> str:
    """A new key pair; answers the private half as text."""
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
    return (folder / name).read_text()


class Sshd:
    """A real OpenSSH server for this test's own user."""

    def __init__(
        self, folder: Path, *, wrapper: tuple[str, ...] = (), address: str = "127.0.0.1", more: str = ""
    ) -> None:
        assert SSHD, "install openssh-server"
        folder.mkdir(exist_ok=True)
        self.folder = folder
        self.port = free_port()
        self.address = address
        self._wrapper = wrapper
        self._more = more
        self.key = keypair(folder, "user")
        keypair(folder, "host")
        self._open = open_folder()
        self.authorized = self._open / "authorized"
        self.authorized.write_text((folder / "user.pub").read_text())
        self.authorized.chmod(0o644)
        self.loose = self._open / "loose"
        """Where whoever comes in makes files that are to be gone soon."""
        self.loose.mkdir()
        self.loose.chmod(0o777)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.start()

    def start(self, host_key: str = "host") -> None:
        config = self.folder / "sshd.conf"
        # Of a word that is said twice the first counts.
        config.write_text(
            f"{self._more}Port {self.port}\nListenAddress {self.address}\nHostKey {self.folder}/{host_key}\n"
            f"PidFile {self.folder}/pid\nAuthorizedKeysFile {self.authorized}\nPasswordAuthentication no\n"
            f"KbdInteractiveAuthentication no\nStrictModes no\nUsePAM no\nSetEnv TMPDIR={self.loose}\n"
        )
        with (self.folder / "log").open("ab") as log:
            words = [*self._wrapper, str(SSHD), "-D", "-e", "-f", str(config)]
            self._process = subprocess.Popen(words, stderr=log, start_new_session=True)
        if not self._wrapper:
            until(self._listens)

    def _listens(self) -> bool:
        try:
            socket.create_connection((self.address, self.port), 1).close()
        except OSError:
            return False
        return True

    def use_another_host_key(self) -> None:
        keypair(self.folder, "other")
        self.stop()
        self.start("other")

    def credential(self) -> SshCredential:
        return SshCredential(kind="ssh", user=getpass.getuser(), private_key=self.key)

    def target(self, *follow: FollowedFile, **changes: object) -> RemoteTarget:
        held = RemoteTarget(
            host_id=1,
            host="quay-a",
            protocol="ssh",
            address=self.address,
            port=self.port,
            credential=self.credential(),
            every=60,
            time_limit=10,
            follow=list(follow),
        )
        return held.model_copy(update=changes)

    def stop(self) -> None:
        """Ends the listener alone: connections that are open stay so, as with a real restart."""
        self._process.terminate()
        self._process.wait(10)


class Snmpd:
    """A real Net-SNMP agent with a v2c community, a v3 user, and one that may see nothing."""

    def __init__(self) -> None:
        assert SNMPD, "install snmpd"
        folder = open_folder()
        self.port = free_port()
        (folder / "var").mkdir()
        config = folder / "snmpd.conf"
        config.write_text(
            f"agentaddress udp:127.0.0.1:{self.port}\nrocommunity {COMMUNITY} 127.0.0.1\n"
            f"createUser {USER} SHA-256 {AUTH} AES {PRIVACY}\ncreateUser noview SHA-256 {AUTH} AES {PRIVACY}\n"
            f"rouser {USER} authpriv\nsysName pier-switch\n"
        )
        environment = {
            **os.environ,
            "MIBS": "",
            "SNMP_PERSISTENT_DIR": str(folder / "var"),
            "SNMPCONFPATH": str(folder),
        }
        user = "Debian-snmp" if os.geteuid() == 0 and _has_user("Debian-snmp") else None
        if user:
            shutil.chown(folder / "var", user)
            shutil.chown(config, user)
        self._process = subprocess.Popen(
            [str(SNMPD), "-f", "-Lf", str(folder / "log"), "-C", "-c", str(config), "-I", "-smux"],
            env=environment,
            user=user,
            start_new_session=True,
        )

    def target(self, credential: Snmp2Credential | Snmp3Credential, **changes: object) -> RemoteTarget:
        held = RemoteTarget(
            host_id=2,
            host="pier-switch",
            protocol="snmp",
            address="127.0.0.1",
            port=self.port,
            credential=credential,
            every=60,
            time_limit=3,
        )
        return held.model_copy(update=changes)

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait(10)


def open_folder() -> Path:
    """A folder that other accounts may enter: pytest keeps its own for itself."""
    made = Path(tempfile.mkdtemp(prefix="balise-test-"))
    made.chmod(0o755)
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    return made


def _has_user(name: str) -> bool:
    try:
        pwd.getpwnam(name)
    except KeyError:
        return False
    return True


def community(text: str = COMMUNITY) -> Snmp2Credential:
    return Snmp2Credential(kind="snmp", version="2c", community=text)


def user(name: str = USER, auth: str = AUTH, privacy: str | None = PRIVACY) -> Snmp3Credential:
    return Snmp3Credential(
        kind="snmp",
        version="3",
        user=name,
        auth=SnmpAuth(password=auth),
        privacy=SnmpPrivacy(password=privacy) if privacy else None,
    )


class Mute:
    """A port that accepts and never says a word."""

    def __init__(self) -> None:
        self._socket = socket.socket()
        self._socket.bind(("127.0.0.1", 0))
        self._socket.listen(200)
        self.port = self._socket.getsockname()[1]
        self._kept: list[socket.socket] = []
        threading.Thread(target=self._take, daemon=True).start()

    def _take(self) -> None:
        while True:
            try:
                self._kept.append(self._socket.accept()[0])
            except OSError:
                return

    def close(self) -> None:
        self._socket.close()
        for one in self._kept:
            one.close()
