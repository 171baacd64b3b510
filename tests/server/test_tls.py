"""HTTPS: a self-made certificate that is pinned, one of an authority, and every way in which trust can fail."""

from __future__ import annotations

import subprocess
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import pytest
import trustme

from balise.agent.check import Check
from balise.agent.enrol import enrol
from balise.agent.identity import load_identity
from balise.api.access import NewEnrolmentKey, NewUser
from balise.api.secrets import Secret
from balise.client import Balise, BaliseError
from balise.client.trust import Trust, fingerprint_of, held_trust
from balise.server.people.access import Access
from balise.server.people.tokens import TokenBook
from balise.server.tls.certificates import CertificateError, given, self_made
from balise.store.state.store import StateStore
from running import BALISE, free_port, until


class Secure:
    """`balise serve` over HTTPS."""

    def __init__(self, folder: Path, *options: str) -> None:
        self.data = folder / "data"
        self.url = f"https://127.0.0.1:{free_port()}"
        self.log = folder / "log"
        state = StateStore(self.data)
        self.token = TokenBook(state=state, access=Access(state)).make("t", "administrator", by="tests")[1]
        state.close()
        words = [BALISE, "serve", "--data", str(self.data), "--listen", self.url.removeprefix("https://"), *options]
        with self.log.open("wb") as output:
            self._process = subprocess.Popen(words, stdout=output, stderr=output)

    def client(self, trust: Trust) -> Balise:
        def ready() -> Balise | None:
            client = Balise(self.url, self.token, trust=trust)
            try:
                client.status()
            except BaliseError:
                client.close()
                return None
            return client

        return until(ready, 20)  # type: ignore[return-value]

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait(20)
        assert "Traceback" not in self.log.read_text()


def findings(folder: Path, **options: object) -> dict[str, tuple[str, str]]:
    held: dict[str, object] = {"console": None, "key": None, "trust": Trust(), "name": "pier-3"} | options
    return {f.what: (f.verdict, f.detail) for f in Check(folder, **held).run()}  # type: ignore[arg-type]


def _promises_tls(url: str, admin: Balise) -> None:
    """Every answer over TLS says that plain HTTP is not to be tried again, and the cookie is for TLS alone."""
    admin.users.add(NewUser(name="ana", role="viewer", password=Secret("a long enough password")))
    with httpx.Client(base_url=url, verify=False, timeout=60) as page:
        for path in ("/", "/api/v1/status", "/v1/metrics", "/nothing"):
            assert "max-age=31536000" in page.get(path).headers["strict-transport-security"], path
        signed = page.post("/api/v1/session", json={"name": "ana", "password": "a long enough password"})
        assert "; secure" in signed.headers["set-cookie"].lower()


def test_a_self_made_certificate_is_pinned_by_its_fingerprint(tmp_path: Path) -> None:
    console = Secure(tmp_path, "--tls", "self")
    try:
        with console.client(Trust(until(lambda: _file(console.data / "tls" / "authority.pem")))) as admin:
            made = admin.keys.create(NewEnrolmentKey(label="tls", uses=3))
            _promises_tls(console.url, admin)
        words = made.command.split()
        fingerprint = words[words.index("--fingerprint") + 1]
        assert fingerprint == fingerprint_of((console.data / "tls" / "authority.pem").read_text())
        folder = tmp_path / "agent"
        before = findings(folder, console=console.url, key=made.key, trust=Trust(fingerprint=fingerprint))
        assert {before[w][0] for w in ("name", "reach", "trust", "console", "clock", "key")} == {"ok"}
        assert "this machine is new" in before["key"][1]
        with pytest.raises(BaliseError, match="somebody stands in between"):
            enrol(folder, console.url, made.key, trust=Trust(fingerprint="sha256:" + "0" * 64))
        with pytest.raises(BaliseError, match="CERTIFICATE_VERIFY_FAILED"):
            enrol(folder, console.url, made.key)
        identity, waiting = enrol(folder, console.url, made.key, name="pier-3", trust=Trust(fingerprint=fingerprint))
        assert (identity.host, waiting, held_trust(folder).file) == ("pier-3", False, folder / "console.pem")
        after = findings(folder)
        assert after["identity"] == ("ok", "enrolled as pier-3") and after["trust"][0] == "ok"
        assert "plan" in after and after["reads cpu"][0] == "ok"
        assert load_identity(folder).console == console.url
        untrusting = findings(tmp_path / "elsewhere", console=console.url)
        assert untrusting["trust"][0] == "critical" and "--fingerprint" in untrusting["trust"][1]
    finally:
        console.stop()


def _file(path: Path) -> Path | None:
    return path if path.exists() else None


def test_a_certificate_of_an_authority_is_checked_for_chain_and_name(tmp_path: Path) -> None:
    authority = trustme.CA()
    leaf = authority.issue_cert("localhost")
    chain, key, ca = tmp_path / "chain.pem", tmp_path / "key.pem", tmp_path / "ca.pem"
    for part in leaf.cert_chain_pems:
        part.write_to_path(chain, append=True)
    leaf.private_key_pem.write_to_path(key)
    authority.cert_pem.write_to_path(ca)
    console = Secure(tmp_path, "--certificate", str(chain), "--key", str(key))
    try:
        by_name = console.url.replace("127.0.0.1", "localhost")
        wrong_name = console.url
        console.url = by_name
        with console.client(Trust(ca)) as admin:
            assert "--fingerprint" not in admin.keys.create(NewEnrolmentKey(label="tls")).command
        with Balise(wrong_name, trust=Trust(ca)) as other, pytest.raises(BaliseError, match="IP address mismatch"):
            other.status()
    finally:
        console.stop()


def test_a_certificate_warns_before_it_runs_out_and_is_renewed_when_self_made(tmp_path: Path) -> None:
    now = time.time()
    authority = trustme.CA()
    soon = authority.issue_cert("localhost", not_after=datetime.now(UTC) + timedelta(days=5, hours=1))
    chain = tmp_path / "soon.pem"
    soon.private_key_and_cert_chain_pem.write_to_path(chain)
    held = given(chain, chain)
    assert "runs out in 5 days" in str(held.warning(now))
    assert "ran out 2 days ago" in str(held.warning(now + 7.1 * 86_400))
    own = self_made(tmp_path / "tls", ["console.skerry.example"])
    assert own.warning(now) is None and 390 < own.days_left(now) < 398
    before, anchor = own.chain.read_text(), own.fingerprint
    own.look(now + 370 * 86_400)
    assert own.chain.read_text() != before and own.fingerprint == anchor
    assert (own.key.stat().st_mode & 0o777, (tmp_path / "tls" / "authority.key").stat().st_mode & 0o777) == (
        0o600,
        0o600,
    )
    again = self_made(tmp_path / "tls", ["another.skerry.example"])
    assert again.fingerprint == anchor and "another" not in before


def test_files_that_do_not_belong_together_are_refused(tmp_path: Path) -> None:
    authority = trustme.CA()
    one, other = authority.issue_cert("a"), authority.issue_cert("b")
    one.cert_chain_pems[0].write_to_path(tmp_path / "a.pem")
    other.private_key_pem.write_to_path(tmp_path / "b.key")
    with pytest.raises(CertificateError, match="cannot be used"):
        given(tmp_path / "a.pem", tmp_path / "b.key")
    with pytest.raises(CertificateError, match="cannot be used"):
        given(tmp_path / "none.pem", tmp_path / "none.key")
    words = [BALISE, "serve", "--data", str(tmp_path / "d"), "--certificate", str(tmp_path / "a.pem")]
    said = subprocess.run([*words, "--key", str(tmp_path / "b.key")], capture_output=True, text=True, check=False)
    assert said.returncode == 1 and "cannot be used" in said.stderr and "Traceback" not in said.stderr
