"""`balise demo`: a console with a made-up fleet."""

from __future__ import annotations

import argparse

from balise.cli.build import listen_address, serving
from balise.cli.here import log_to_stderr, server_packages


def add(demo: argparse.ArgumentParser) -> None:
    serving(demo)
    demo.add_argument("--hosts", type=int, metavar="N", help="how many made-up hosts (all of them)")
    demo.add_argument("--days", type=float, metavar="N", default=7.0, help="days of history to lay down (7)")
    demo.add_argument("--no-this-host", action="store_true", help="do not enrol this machine with a real agent")
    demo.set_defaults(run=_demo)


def _demo(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.demo.run import run_demo

    log_to_stderr()
    address, port = listen_address(arguments.listen)
    return run_demo(
        address,
        port,
        data=arguments.data,
        hosts=arguments.hosts,
        days=arguments.days,
        this_host=not arguments.no_this_host,
    )
