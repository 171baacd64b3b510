"""Incidents: from a breach to the message while another channel hangs, and storms."""

from __future__ import annotations

import json
import math
import socket
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import numpy as np
import psutil
from aiosmtpd.controller import Controller
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.api.callouts import CalloutBody
from balise.api.channels import EmailChannel, WebhookChannel
from balise.api.rules import RuleBody
from balise.client import Balise
from report import Report
from running import Service, free_port, until
from sending import gauge_request, post, send_gauge


class Ends:
    """A webhook's end and a mail server, which write down when what came; and one end that hangs."""

    def __init__(self) -> None:
        self.hook: list[tuple[float, dict[str, Any]]] = []
        self.mail: list[tuple[float, str]] = []
        ends = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                ends.hook.append((time.perf_counter(), json.loads(body)))
                self.send_response(204)
                self.end_headers()

            def log_message(self, *_words: object) -> None:
                pass

        class Box:
            async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:
                ends.mail.append((time.perf_counter(), envelope.content.decode("utf-8", "replace")))
                return "250 kept"

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self._server.server_port}/"
        self.mail_port = free_port()
        self._mail = Controller(Box(), hostname="127.0.0.1", port=self.mail_port)
        self._mail.start()
        self._hanging = socket.create_server(("127.0.0.1", 0), backlog=200)
        self.hanging = f"http://127.0.0.1:{self._hanging.getsockname()[1]}/"

    def channels(self, admin: Balise) -> None:
        admin.channels.set("hangs", WebhookChannel(kind="webhook", url=self.hanging))
        admin.channels.set("hook", WebhookChannel(kind="webhook", url=self.url))
        mail = EmailChannel(
            kind="email", to=["d@skerry.example"], server="127.0.0.1", port=self.mail_port, security="none"
        )
        admin.channels.set("mail", mail)

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()
        self._mail.stop()
        self._hanging.close()


def rule(admin: Balise, name: str) -> None:
    body = {"about": name, "measure": {"metric": name, "over": "60s"}, "limits": {"critical": {"above": 1}}}
    admin.rules.apply(name, RuleBody.model_validate(body))


STANDING = 40
"""Rules that a console has anyway."""


def told(report: Report) -> None:
    """Each breach is of another rule on another host, and over before the next."""
    tries = report.size(100, 2)
    report.title(f"Incidents: from a breach to the message, one channel hanging, nothing gathered, {tries} times")
    service, ends = Service(Path(tempfile.mkdtemp())), Ends()
    by_hook, by_mail = [], []
    with service.client() as admin:
        ends.channels(admin)
        admin.callouts.set("all", CalloutBody(tell=["hangs", "hook", "mail"], gather="0s"))
        for i in range(STANDING):
            rule(admin, f"current-{i}")
            send_gauge(service.url, service.tokens["ingest"], "quay", f"current-{i}", 0.0)
        time.sleep(5.0)
        rng = np.random.default_rng(7)
        for i in range(tries):
            rule(admin, f"tide-{i}")
            time.sleep(1.0 + float(rng.random()))
            began = time.perf_counter()
            send_gauge(service.url, service.tokens["ingest"], f"pier-{i}", f"tide-{i}", 9.0)
            until(lambda i=i: len(ends.hook) > 2 * i and len(ends.mail) > 2 * i, 30)  # type: ignore[misc]
            by_hook.append(ends.hook[-1][0] - began)
            by_mail.append(ends.mail[-1][0] - began)
            admin.rules.delete(f"tide-{i}")
            until(lambda i=i: len(ends.hook) > 2 * i + 1 and len(ends.mail) > 2 * i + 1, 30)  # type: ignore[misc]
    service.stop()
    ends.close()
    for name, took in (("webhook", sorted(by_hook)), ("mail with a picture", sorted(by_mail))):
        report.figure(f"{name}, median", f"{took[len(took) // 2]:.2f} s")
        report.figure(f"{name}, the longest", f"{took[-1]:.2f} s")
        report.budget(f"{name}, p99, s", took[math.ceil(len(took) * 0.99) - 1], 1.0, most=True)


def storm(report: Report) -> None:
    hosts = report.size(10_000, 200)
    report.title(f"Incidents: a storm of {hosts:,} breaches at once, gathered for 2 s")
    service, ends = Service(Path(tempfile.mkdtemp())), Ends()
    with service.client() as admin:
        ends.channels(admin)
        admin.callouts.set("all", CalloutBody(tell=["hangs", "hook", "mail"], gather="2s"))
        rule(admin, "tide")
        names = [f"s{i:05}" for i in range(hosts)]

        def send(value: float) -> None:
            for start in range(0, hosts, 500):
                request = ExportMetricsServiceRequest()
                for name in names[start : start + 500]:
                    request.MergeFrom(gauge_request(name, "tide", [(time.time(), value)]))
                answer = post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString())
                assert answer.status_code == 200, answer.content

        send(0.0)
        until(lambda: len(admin.call("GET", "/hosts", limit=1)["items"]) == 1)
        time.sleep(3)
        process = psutil.Process(service.pid)
        before = process.memory_info().rss
        began = time.perf_counter()
        send(9.0)
        sent = time.perf_counter() - began
        until(lambda: ends.hook, 120)
        first = ends.hook[0][0] - began
        until(lambda: sum(i["alert_count"] for i in admin.call("GET", "/incidents")["items"]) >= hosts, 300)
        known = time.perf_counter() - began
        most = process.memory_info().rss
        time.sleep(6)
        found = admin.call("GET", "/incidents")["items"]
        status = admin.call("GET", "/status")
        asked = time.perf_counter()
        admin.call("GET", f"/incidents/{found[0]['id']}")
        page = time.perf_counter() - asked
    service.stop()
    report.figure("sending them", f"{sent:.1f} s")
    report.figure("to the first message", f"{first:.1f} s")
    report.figure("until all are in incidents", f"{known:.1f} s")
    report.figure("incidents", str(len(found)))
    report.figure("messages by webhook, by mail", f"{len(ends.hook)}, {len(ends.mail)}")
    report.figure("more memory", f"{(most - before) / 1e6:.0f} MB, {(most - before) / hosts / 1e3:.1f} kB a breach")
    report.figure("its page", f"{page * 1e3:.0f} ms")
    report.figure("state of the console meanwhile", status["state"])
    ends.close()


def run(report: Report) -> None:
    told(report)
    storm(report)
