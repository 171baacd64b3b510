"""`balise serve`: the console itself."""

from __future__ import annotations

import argparse
from pathlib import Path

from balise.cli.build import listen_address, serving
from balise.cli.errors import CommandError
from balise.cli.here import log_to_stderr, server_packages


def add(serve: argparse.ArgumentParser) -> None:
    serving(serve)
    serve.add_argument("--certificate", type=Path, metavar="FILE", help="serve HTTPS with this certificate (PEM chain)")
    serve.add_argument("--key", type=Path, metavar="FILE", help="its private key (PEM), if not in the same file")
    serve.add_argument(
        "--tls", choices=("off", "self"), default="off", help="self: HTTPS with a certificate of its own"
    )
    serve.add_argument("--public-url", default="", metavar="URL", help="how agents elsewhere reach this console")
    serve.add_argument(
        "--memory",
        type=int,
        metavar="MIB",
        help="what the console may hold in memory (2048, or half of a small machine's)",
    )
    serve.add_argument(
        "--aside", type=Path, metavar="DIR", help="where days of events are set aside (aside, in the data folder)"
    )
    serve.add_argument(
        "--backups", type=Path, metavar="DIR", help="where backups are put (backups, in the data folder)"
    )
    serve.add_argument(
        "--exports", type=Path, metavar="DIR", help="where exports are put (exports, in the data folder)"
    )
    serve.add_argument(
        "--channels-may-run",
        action="store_true",
        help="channels of the kind command may run programs on this machine, as this user",
    )
    serve.set_defaults(run=_serve)


def _serve(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.server.run import Tls, serve

    log_to_stderr()
    address, port = listen_address(arguments.listen)
    if arguments.key and not arguments.certificate:
        raise CommandError("--key goes with --certificate: name both")
    tls = Tls(arguments.certificate, arguments.key, arguments.tls == "self")
    if arguments.memory is not None and not 256 <= arguments.memory <= 1 << 20:
        raise CommandError("--memory: between 256 MiB and 1 TiB, in MiB")
    memory = arguments.memory << 20 if arguments.memory else None
    return serve(
        address,
        port,
        arguments.data,
        tls=tls,
        public_url=arguments.public_url,
        memory=memory,
        aside=arguments.aside,
        backups=arguments.backups,
        exports=arguments.exports,
        channels_may_run=arguments.channels_may_run,
    )
