"""systemd units for the agent and the relay, with no more rights than they need (systemd.exec(5))."""

from __future__ import annotations

import sys
from pathlib import Path

_TEXT = """\
# Put this at /etc/systemd/system/balise-{noun}.service, then:
#   systemctl daemon-reload && systemctl enable --now balise-{noun}
[Unit]
Description=Balise {noun}
After=network-online.target
Wants=network-online.target

[Service]
ExecStart={command} {noun} run --state {folder}{more}
Restart=always
RestartSec=5
{user}
# Log files are read as a member of adm; name more groups here where a file asks for them.
SupplementaryGroups=adm
StateDirectory={state}
StateDirectoryMode=0700
UMask=0077
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=read-only
ReadWritePaths={folder}
PrivateTmp=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictSUIDSGID=yes
RestrictRealtime=yes
LockPersonality=yes
MemoryMax={memory}
CPUQuota=25%
Nice=5

[Install]
WantedBy=multi-user.target
"""


def unit_text(noun: str, folder: Path) -> str:
    """The unit of `agent` or `relay` with its state in `folder`."""
    command = Path(sys.argv[0]).resolve()
    more = " --listen 0.0.0.0:8809" if noun == "relay" else ""
    return _TEXT.format(
        noun=noun,
        command=command,
        folder=folder,
        state=folder.name,
        user="User=balise\nGroup=balise",
        more=more,
        memory="512M" if noun == "relay" else "128M",
    )
