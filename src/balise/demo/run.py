"""`balise demo`: prepares the past, then runs a console with the fleet alive in it."""

from __future__ import annotations

import logging
import secrets
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np

from balise.agent.enrol import enrol
from balise.api.access import NewEnrolmentKey
from balise.api.credentials import SshCredential
from balise.api.hosts import GroupBody
from balise.api.probes import ProbeBody, ProbeExpect
from balise.api.receivers import ReceiverBody
from balise.api.secrets import Secret
from balise.client import Balise, BaliseError
from balise.core.moments import NS
from balise.demo import harbour, watchkeeping
from balise.demo.devices import Devices
from balise.demo.fleet import FLEET, OFFICE, Ship
from balise.demo.history import FINE, series_of, shown
from balise.demo.logbook import Logbook
from balise.demo.model import Measured, Model
from balise.demo.offices import Offices
from balise.demo.quays import PASSWORD as QUAY_PASSWORD
from balise.demo.quays import USER as QUAY_USER
from balise.demo.shore import Shore
from balise.demo.stories import DAY, LOST
from balise.demo.tales.full_deck import STOPS, gained
from balise.demo.telling import Teller
from balise.server.errors import Refused
from balise.server.folder import data_folder
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.run import bound_socket, run_server
from balise.server.settings import Settings
from balise.store.events.store import Delivery
from balise.store.folders import served

log = logging.getLogger(__name__)
USER = "skipper"
PLANS = (
    """\
plan: ports
about: What holds at both quays and in the head office
for: {groups: [northquay, southquay, headland]}
collect:
  every: 15s
follow:
  - path: /var/log/syslog
""",
    """\
plan: gates
about: Gate controllers are small, and a full log volume stops them
for: {hosts: 'label.role eq "gate-controller"'}
collect:
  processes: {every: 1m}
limits:
  filesystem-filling:
    warning: {above: 0.75, hold: 5m, clear: 0.7}
""",
)
THIS_MACHINE = """\
plan: this-machine
about: What this machine says of its packages, read as it is written
for: {groups: [This machine]}
follow:
  - {path: /var/log/dpkg.log, from_start: true}
  - {path: /var/log/apt/*.log, indented: true}
  - path: /var/log/dpgk.log
  - path: /var/log/apt
"""
"""Two of its paths are right, one has a slip, and one is a directory."""
PARTS = {"metrics": 0.5, "events": 0.25, "evidence": 0.1, "alerts": 0.15}
"""What is prepared, and about which share of the time it takes."""


class Feeder:
    """Writes what the fleet measures and says, every 15 seconds."""

    def __init__(self, console: Parts, ships: tuple[Ship, ...], model: Model, shore: Shore) -> None:
        self._console = console
        self._shore = shore
        self.model = model
        self._teller = Teller(model)
        self._ships = [
            (ship, known)
            for ship in ships
            if ship.role != OFFICE and (known := console.directory.find(ship.name)) is not None
        ]
        self._layouts: dict[bool, Any] = {}
        """How the points of a step are laid out: of all, and of all but the gate that has lost its network."""
        self._totals: np.ndarray[Any, np.dtype[np.float64]] | None = None
        self._told = time.time() - 1

    def step(self) -> None:
        """One interval."""
        now = time.time()
        at = now // FINE * FINE
        lost = bool(self.model.schedule.strength("lost-gate", np.array([at]), rise=1.0)[0] > 0.5)
        self._shore.set_barrier(lost=lost)
        series: list[Any] = []
        values: list[float] = []
        counters: list[bool] = []
        heard: list[bool] = []
        for ship, known in self._ships:
            measured: list[Measured] = self.model.measure(ship, np.array([at]))
            gone = lost and ship.name == LOST
            if lost not in self._layouts and not gone:
                series.append(series_of(self._console.series, known.id, measured))
            heard.extend([not gone] * len(measured))
            values.extend(float(m.values[0]) for m in measured)
            counters.extend(m.kind == "counter" for m in measured)
            if not gone:
                self._console.directory.heard(known.id, at, now)
        if lost not in self._layouts:
            self._layouts[lost] = self._console.series.catalogue.layouts.of(np.concatenate(series))
        found, is_counter = np.array(values), np.array(counters)
        if self._totals is None:
            self._totals = np.zeros(len(found))
        self._totals += found * FINE
        sent = np.where(is_counter, shown(self._totals), found)[np.array(heard)]
        moments = np.full(len(sent), int(at) * NS, np.int64)
        self._console.series.accept_now(self._console.series.batch(self._layouts[lost], moments, sent))
        self._tell(now, at)
        self._tell_sources(now)
        harbour.told_services(self._console)

    def _tell_sources(self, now: float) -> None:
        """What the fleet's agents would say of the files that they follow."""
        full = any(float(gained(one, np.array([now]))[0]) > STOPS for one in self.model.schedule.of("full-deck"))
        for ship, known in self._ships:
            path = f"/var/log/{ship.role.partition('-')[0]}/app.log"
            lines = 0 if full and ship.name == "gate-s3" else 1 + known.id % 9
            detail = "last written a moment ago" if lines else "nothing is written to it any more"
            told = {"path": path, "status": "following", "detail": detail, "lines": lines, "behind": 0}
            self._console.reports.note_files(known.id, [told])

    def _tell(self, now: float, at: float) -> None:
        events = [e for ship, _ in self._ships for e in self._teller.events(ship, self._told, now, every=110.0)]
        self._told = now
        events.sort(key=lambda e: e.time)
        snapshots = [s for ship, _ in self._ships for s in self._teller.snapshots(ship, at)]
        self._console.events.accept_now(Delivery(events, snapshots))


class Quays:
    """Made-up servers on loopback that are not enrolled yet, in a process of their own; and a list to enrol them by."""

    def __init__(self, folder: Path, count: int = 12) -> None:
        self._list = folder / "quays.txt"
        self._count = count
        self._process: subprocess.Popen[str] | None = None

    def start(self) -> None:
        words = [sys.executable, "-m", "balise.demo.quays", str(self._count)]
        self._process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, start_new_session=True)
        lines = [self._process.stdout.readline().split() for _ in range(self._count)] if self._process.stdout else []
        text = "".join(
            f"{name} 127.0.0.1:{port} role=quay\n" for name, port in (line for line in lines if len(line) == 2)
        )
        self._list.write_text(f"# made-up servers, read over SSH with the credential quays\n{text}", "utf-8")

    def stop(self) -> None:
        if self._process and self._process.poll() is None:
            self._process.terminate()
            self._process.wait(10)


def furnish(console: Parts) -> None:
    """Sites, a nested group, a plan and a credential, if they are not there yet."""
    who = "demo"
    if not console.directory.groups or "Gates at northquay" in console.directory.groups:
        return
    for site in ("northquay", "southquay", "headland"):
        if site in console.directory.groups:
            console.groups.put(site, GroupBody(kind="site"), who)
    gates = GroupBody(
        where='label.role eq "gate-controller" and label.site eq "northquay"', parent="northquay", about="at the piers"
    )
    console.groups.put("Gates at northquay", gates, who)
    console.credentials.put("quays", SshCredential(kind="ssh", user=QUAY_USER, password=Secret(QUAY_PASSWORD)), who)
    for text in PLANS:
        console.plans.put(text, who)
    console.kits.start()
    harbour.furnish_services(console)
    harbour.furnish_applications(console)
    harbour.furnish_inventory(console)
    page = ProbeBody(kind="http", target=f"{console.settings.base_url}/api/v1/status", about="this console itself",
                     host="console", every="30s", expect=ProbeExpect(json={"$.state": "ready"}))  # fmt: skip
    console.probes.put("console", page, Principal(who, "administrator"))


class ThisHost:
    """A real agent on this machine, in a process of its own."""

    def __init__(self, console: Parts, url: str, folder: Path) -> None:
        self._console = console
        self._url = url
        self._folder = folder
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._begin, name="this-host", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _begin(self) -> None:
        try:
            self._wait_for_console()
            if not (self._folder / "identity.json").exists():
                key = self._console.enrolling.make_key(
                    NewEnrolmentKey(label="this machine", group="This machine"), "demo", self._url
                )
                enrol(self._folder, self._url, key.key)
                self._console.plans.put(THIS_MACHINE, "demo")
            with (self._folder / "agent.log").open("ab") as output:
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "balise.cli", "agent", "run", "--state", str(self._folder)],
                    stdout=output,
                    stderr=output,
                    start_new_session=True,
                )
        except (BaliseError, OSError) as error:
            log.warning("this machine is not enrolled: %s", error)

    def _wait_for_console(self) -> None:
        with Balise(self._url) as client:
            for _ in range(100):
                try:
                    client.status()
                    return
                except BaliseError:
                    time.sleep(0.1)

    def stop(self) -> None:
        self._thread.join(5)
        if self._process and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(10)
            except subprocess.TimeoutExpired:
                self._process.kill()


def prepare(folder: Path, held: dict[str, Any], start: float, end: float, hosts: int) -> None:
    """Lays down the past in another process and shows how far it is."""
    words = [sys.executable, "-m", "balise.demo.history", str(folder)]
    words += [repr(held["started"]), repr(start), repr(end), str(hosts), repr(held["days"]), str(held.get("seed", 0))]
    began = time.monotonic()
    on_terminal = sys.stderr.isatty()
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as child:
        shares: dict[str, float] = {}
        for line in child.stdout or ():
            what, done, of = line.split()
            shares[what] = int(done) / int(of) * PARTS[what]
            share = sum(shares.values())
            bar = "█" * int(share * 24)
            text = f"preparing {(end - start) / DAY:.1f} days of {hosts} hosts [{bar:<24}] {what} {done} of {of}"
            print(
                f"\r{text:<90}" if on_terminal else text, end="" if on_terminal else "\n", file=sys.stderr, flush=True
            )
    if on_terminal:
        print(file=sys.stderr)
    if child.returncode:
        raise SystemExit(f"balise: the demo's history could not be prepared (exit {child.returncode})")
    print(f"prepared in {time.monotonic() - began:.1f} s", file=sys.stderr)


def _receive_devices(console: Parts) -> int | None:
    """The port at which made-up devices are listened to; none when it cannot be had."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = int(free.getsockname()[1])
    body = ReceiverBody(transport="udp", listen=f"127.0.0.1:{port}")
    console.receivers.start()
    try:
        console.receivers.put("devices", body, "demo")
    except Refused as problem:
        log.warning("made-up devices are not heard: %s", problem.detail)
        return None
    return port


def demo_folder(data: str | None) -> Path:
    """Where the demo keeps everything."""
    return Path(data) if data else data_folder(None) / "demo"


def run_demo(
    address: str, port: int, *, data: str | None, hosts: int | None, days: float, this_host: bool, seed: int | None
) -> int:
    """Runs until stopped. The first start lays down `days` of history; later ones fill the gap since."""
    listener = bound_socket(address, port)
    with served(demo_folder(data)) as folder:
        return _run(
            folder, listener, f"http://{address}:{port}", hosts=hosts, days=days, this_host=this_host, seed=seed
        )


def _run(
    folder: Path,
    listener: socket.socket,
    url: str,
    *,
    hosts: int | None,
    days: float,
    this_host: bool,
    seed: int | None,
) -> int:
    count = min(hosts or len(FLEET), len(FLEET))
    now = time.time()
    book = Logbook(folder)
    held = book.held
    if "started" in held and seed not in (None, held.get("seed", 0)):
        raise SystemExit(
            f"balise: the demo in {folder} is the world of seed {held.get('seed', 0)}: name another --data"
        )
    if "started" not in held:
        held |= {
            "started": now,
            "until": now - days * DAY,
            "days": days,
            "seed": seed or 0,
            "password": secrets.token_urlsafe(9),
        }
    elif now - held["until"] > 600:
        # The stories are at work again whenever somebody comes back to look.
        held["started"] = now
    if now - held["until"] > 2 * FINE:
        start = max(held["until"], now - held["days"] * DAY)
        prepare(folder, held, start, now, count)
        book.laid(start, now)
    held["until"] = time.time()
    book.keep()
    console = build(Settings(data=folder, base_url=url, organisation="Skerry Ferries"))
    if not console.access.has_users():
        console.users.add(USER, "administrator", held["password"], by="demo")
    shore = Shore(folder)
    model = Model(book.schedule(), held["started"], held.get("seed", 0))
    feeder = Feeder(console, FLEET[:count], model, shore)

    def feed() -> None:
        if book.has_news():
            model.schedule = book.schedule()
        feeder.step()
        held["until"] = time.time()
        book.keep()

    console.workers.add("feeder", feed, FINE)
    console.workers.add("offices", Offices(console, FLEET[:count], feeder.model).step, FINE)
    furnish(console)
    watchkeeping.furnish(console, shore)
    device_port = _receive_devices(console)
    if device_port is not None:
        console.workers.add("devices", Devices(device_port).step, 5.0)
    quays = Quays(folder)
    quays.start()
    machine = ThisHost(console, url, folder / "agent") if this_host else None
    if machine:
        machine.start()
    print(
        f"\n  Balise is at {url}\n  sign in as {USER} with the password {held['password']}\n  Ctrl-C ends it\n"
        f"  twelve servers wait to be enrolled over SSH: Fleet, Enrol hosts, with the list in {folder / 'quays.txt'}\n",
        flush=True,
    )
    try:
        run_server(console, listener)
    finally:
        quays.stop()
        shore.stop()
        if machine:
            machine.stop()
    return 0
