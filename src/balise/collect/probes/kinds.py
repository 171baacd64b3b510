"""The kinds of probes that there are."""

from __future__ import annotations

from balise.api.probes import ProbeKind
from balise.collect.probes.dns import DnsProbe
from balise.collect.probes.ftp import FtpProbe
from balise.collect.probes.http import HttpProbe
from balise.collect.probes.icmp import IcmpProbe
from balise.collect.probes.imap import ImapProbe
from balise.collect.probes.ldap import LdapProbe
from balise.collect.probes.mariadb import MariadbProbe
from balise.collect.probes.pop3 import Pop3Probe
from balise.collect.probes.postgresql import PostgresqlProbe
from balise.collect.probes.probe import Probe
from balise.collect.probes.redis import RedisProbe
from balise.collect.probes.smtp import SmtpProbe
from balise.collect.probes.ssh import SshProbe
from balise.collect.probes.tcp import TcpProbe
from balise.collect.probes.tls import TlsProbe

PROBES: dict[ProbeKind, type[Probe]] = {
    probe.kind: probe
    for probe in (
        HttpProbe,
        TcpProbe,
        TlsProbe,
        DnsProbe,
        SmtpProbe,
        ImapProbe,
        Pop3Probe,
        FtpProbe,
        LdapProbe,
        SshProbe,
        IcmpProbe,
        PostgresqlProbe,
        MariadbProbe,
        RedisProbe,
    )
}
