"""Real services on loopback, each started once for all tests that read it.

With `SERVICES=no` in the environment they are left out, and each test that needs one says so.
"""

from __future__ import annotations

import contextlib
import grp
import os
import pwd
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from running import free_port, until

LEFT_OUT = os.environ.get("SERVICES", "yes") == "no"


def needs_services() -> None:
    if LEFT_OUT:
        pytest.skip("SERVICES=no leaves out tests against real services")


class Daemon:
    """One real service in the foreground, as its own user, in a folder that goes with it."""

    def __init__(self, user: str | None = None) -> None:
        needs_services()
        self.folder = Path(tempfile.mkdtemp(prefix="balise-real-"))
        self.folder.chmod(0o755)
        self._user = user
        self._processes: list[subprocess.Popen[bytes]] = []

    def own(self) -> None:
        """Gives everything in the folder to the service's user."""
        if self._user:
            held = pwd.getpwnam(self._user)
            for path in [self.folder, *self.folder.rglob("*")]:
                os.chown(path, held.pw_uid, held.pw_gid, follow_symlinks=False)

    def _as(self) -> dict[str, Any]:
        if not self._user or os.geteuid() != 0:
            return {}
        gid = pwd.getpwnam(self._user).pw_gid
        groups = [g.gr_gid for g in grp.getgrall() if self._user in g.gr_mem]
        return {"user": self._user, "group": gid, "extra_groups": groups}

    def run(self, *words: str, **more: Any) -> str:
        made = subprocess.run(
            words,
            capture_output=True,
            text=True,
            env=self._environment(more),
            check=False,
            cwd=self.folder,
            **self._as(),
        )
        assert made.returncode == 0, f"{words[0]}: {made.stdout[-500:]}{made.stderr[-1500:]}"
        return made.stdout

    def start(self, *words: str, as_root: bool = False, **more: str) -> subprocess.Popen[bytes]:
        log = (self.folder / "out").open("ab")
        process = subprocess.Popen(
            words,
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
            cwd=self.folder,
            env=self._environment(more),
            **({} if as_root else self._as()),
        )
        self._processes.append(process)
        return process

    @staticmethod
    def _environment(more: dict[str, str]) -> dict[str, str]:
        return {"PATH": f"{os.environ['PATH']}:/usr/sbin:/sbin", "LC_ALL": "C", **more}

    def ready(self, what: Callable[[], Any], seconds: float = 90.0) -> None:
        """Waits until `what` no longer raises and is true."""

        def tried() -> bool:
            for process in self._processes:
                assert process.poll() is None, (self.folder / "out").read_text(errors="replace")[-2000:]
            try:
                return bool(what())
            except Exception:
                return False

        until(tried, seconds)

    def stop(self, signal: int = 15) -> None:
        for process in reversed(self._processes):
            if process.poll() is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal)
        for process in self._processes:
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(15)
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, 9)
        shutil.rmtree(self.folder, ignore_errors=True)


class Postgres(Daemon):
    """PostgreSQL with the role `mon` of the kit's own grant, `pg_stat_statements`, and a log in both forms."""

    def __init__(self) -> None:
        super().__init__("postgres")
        bin_ = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
        self.port = free_port()
        (self.folder / "pw").write_text("secret")
        self.own()
        data = self.folder / "data"
        words = ("-U", "postgres", "-A", "scram-sha-256", f"--pwfile={self.folder}/pw", "--no-sync", "-E", "UTF8")
        self.run(str(bin_ / "initdb"), "-D", str(data), *words)
        with (data / "postgresql.conf").open("a") as file:
            file.write(
                f"listen_addresses='127.0.0.1'\nport={self.port}\nunix_socket_directories='{self.folder}'\n"
                "shared_preload_libraries='pg_stat_statements'\nfsync=off\ntrack_io_timing=on\n"
                "logging_collector=on\nlog_destination='stderr,csvlog,jsonlog'\nlog_directory='log'\n"
                "log_filename='pg.log'\nlog_file_mode=0644\nlog_lock_waits=on\ndeadlock_timeout=200ms\n"
            )
        self.start(str(bin_ / "postgres"), "-D", str(data))
        self.log = data / "log" / "pg.json"
        self.ready(lambda: self.connect().close() is None)
        with self.connect() as db:
            for statement in (
                "CREATE EXTENSION pg_stat_statements",
                "CREATE ROLE mon LOGIN PASSWORD 'monpw' CONNECTION LIMIT 5",
                "GRANT pg_monitor TO mon",
                "CREATE TABLE fares (id int PRIMARY KEY, price int, who text)",
                "INSERT INTO fares SELECT g, g, 'x' FROM generate_series(1, 20000) g",
                "CREATE INDEX fares_who ON fares (who)",
                "CREATE INDEX fares_who_again ON fares (who)",
                "CREATE TABLE backups (finished timestamptz)",
                "INSERT INTO backups VALUES (now() - interval '2 hours')",
                "GRANT SELECT ON backups TO mon",
            ):
                db.execute(statement)

    def connect(self, application: str = "tests", *, autocommit: bool = True) -> Any:
        import psycopg

        dsn = f"host=127.0.0.1 port={self.port} dbname=postgres user=postgres password=secret connect_timeout=3"
        return psycopg.connect(f"{dsn} application_name={application}", autocommit=autocommit)

    @property
    def target(self) -> dict[str, Any]:
        return {"address": "127.0.0.1", "port": self.port, "database": "postgres"}

    def stop(self, signal: int = 2) -> None:
        super().stop(signal)


class Nginx(Daemon):
    """nginx with a status page, pages that answer 200 and 503, and an access log with times."""

    def __init__(self) -> None:
        super().__init__("www-data")
        self.port = free_port()
        f = self.folder
        temporary = "".join(f"{n}_temp_path {f}/{n};" for n in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
        (f / "nginx.conf").write_text(
            f"daemon off; worker_processes 1; pid {f}/pid; error_log {f}/error.log notice;\n"
            "events { worker_connections 64; } http {\n"
            'log_format timed \'$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent '
            '"$http_referer" "$http_user_agent" $request_time\';\n'
            f"access_log {f}/access.log timed; {temporary}\n"
            f"server {{ listen 127.0.0.1:{self.port}; location = /status {{ stub_status; access_log off; }}\n"
            "location / { return 200 'timetable v1\\n'; } location /down { return 503; }\n"
            "location /moved { return 302 /; } location /round { return 302 /round; }\n"
            'location /json { default_type application/json; return 200 \'{"quay": {"open": true, "gates": 3}}\'; } } }\n'
        )
        self.own()
        self.start("/usr/sbin/nginx", "-e", f"{f}/error.log", "-p", str(f), "-c", f"{f}/nginx.conf")
        self.ready(lambda: self.get("/status") == 200)

    def get(self, path: str) -> int:
        import httpx

        return httpx.get(f"http://127.0.0.1:{self.port}{path}", timeout=2).status_code

    @property
    def target(self) -> dict[str, Any]:
        return {"url": f"http://127.0.0.1:{self.port}/status"}


class Redis(Daemon):
    """Redis with a password and the user `mon` of the kit's own grant."""

    def __init__(self) -> None:
        super().__init__("redis")
        self.port = free_port()
        self.own()
        self.start(
            "redis-server", "--bind", "127.0.0.1", "--port", str(self.port), "--dir", str(self.folder),
            "--requirepass", "pw", "--save", "", "--appendonly", "no", "--slowlog-log-slower-than", "1000",
        )  # fmt: skip
        self.ready(lambda: self.client().ping())
        client = self.client()
        client.mset({f"berth:{n}": n for n in range(50)})
        client.execute_command(
            "ACL", "SETUSER", "mon", "on", ">monpw", "resetkeys", "resetchannels", "-@all", "+ping", "+info",
            "+slowlog|get", "+latency|latest", "+client|setname",
        )  # fmt: skip

    def client(self) -> Any:
        import redis

        return redis.Redis(host="127.0.0.1", port=self.port, password="pw", socket_timeout=3)

    @property
    def target(self) -> dict[str, Any]:
        return {"address": "127.0.0.1", "port": self.port}


class Maria(Daemon):
    """MariaDB with the user `mon` of the kit's own grant."""

    def __init__(self) -> None:
        super().__init__("mysql")
        self.port = free_port()
        self.own()
        f = self.folder
        self.run(
            "mariadb-install-db",
            "--no-defaults",
            f"--datadir={f}/data",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        )
        self.start(
            "mariadbd", "--no-defaults", f"--datadir={f}/data", f"--socket={f}/s", f"--pid-file={f}/pid",
            "--bind-address=127.0.0.1", f"--port={self.port}", "--innodb-buffer-pool-size=32M",
            "--innodb-flush-log-at-trx-commit=0", f"--log-error={f}/err.log",
        )  # fmt: skip
        self.ready(lambda: self.connect().close() is None)
        with self.connect() as db, db.cursor() as cursor:
            for statement in (
                "CREATE USER mon@'127.0.0.1' IDENTIFIED BY 'monpw' WITH MAX_USER_CONNECTIONS 5",
                "GRANT PROCESS, REPLICATION CLIENT, SLAVE MONITOR ON *.* TO mon@'127.0.0.1'",
                "CREATE DATABASE fares",
                "CREATE TABLE fares.fare (id int PRIMARY KEY, price int) ENGINE=InnoDB",
                "INSERT INTO fares.fare VALUES (1, 1), (2, 2)",
            ):
                cursor.execute(statement)

    def connect(self, *, autocommit: bool = True) -> Any:
        import pymysql

        return pymysql.connect(unix_socket=f"{self.folder}/s", user="root", autocommit=autocommit)

    @property
    def target(self) -> dict[str, Any]:
        return {"address": "127.0.0.1", "port": self.port}


class Apache(Daemon):
    """Apache httpd with its status page and an access log with times."""

    def __init__(self) -> None:
        super().__init__()
        self.port = free_port()
        f = self.folder
        modules = "\n".join(
            f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so"
            for n in ("mpm_event", "authz_core", "authz_host", "status", "alias", "mime")
        )
        (f / "www").mkdir()
        (f / "www" / "index.html").write_text("departures\n")
        (f / "conf").write_text(
            f"ServerRoot {f}\nServerName quay.test\nListen 127.0.0.1:{self.port}\nPidFile {f}/pid\n{modules}\n"
            f"User www-data\nGroup www-data\nTypesConfig /etc/mime.types\nDocumentRoot {f}/www\nErrorLog {f}/error.log\n"
            'ExtendedStatus On\nLogFormat "%h %l %u %t \\"%r\\" %>s %b \\"%{Referer}i\\" \\"%{User-Agent}i\\" %D" timed\n'
            f"CustomLog {f}/access.log timed\n<Location /server-status>\nSetHandler server-status\nRequire local\n"
            f"</Location>\n<Directory {f}/www>\nRequire all granted\n</Directory>\n"
        )
        self.start("/usr/sbin/apache2", "-D", "FOREGROUND", "-f", f"{f}/conf")
        self.ready(lambda: self.get("/index.html") == 200)

    get = Nginx.get

    @property
    def target(self) -> dict[str, Any]:
        return {"url": f"http://127.0.0.1:{self.port}/server-status?auto"}


class Haproxy(Daemon):
    """HAProxy before one server that is there and one that is not."""

    def __init__(self, backend: int) -> None:
        super().__init__("haproxy")
        self.port = free_port()
        f = self.folder
        (f / "c").write_text(
            f"global\n stats socket {f}/s mode 666 level user\n maxconn 100\ndefaults\n mode http\n timeout connect 1s\n"
            f" timeout client 5s\n timeout server 5s\nfrontend gates\n bind 127.0.0.1:{self.port}\n default_backend quay\n"
            f"backend quay\n option httpchk GET /\n server s1 127.0.0.1:{backend} check inter 300ms fall 2 rise 1\n"
            f" server s2 127.0.0.1:{free_port()} check inter 300ms fall 2 rise 1\n"
        )
        self.own()
        self.start("haproxy", "-db", "-f", f"{f}/c")
        self.ready(lambda: self.get("/") == 200)

    get = Nginx.get

    @property
    def target(self) -> dict[str, Any]:
        return {"socket": f"{self.folder}/s"}


class Rabbit(Daemon):
    """RabbitMQ with the management plugin, the user `mon` of the kit's own grant, and a queue with five messages."""

    def __init__(self) -> None:
        super().__init__("rabbitmq")
        self.port, self.amqp, epmd = free_port(), free_port(), free_port()
        f = self.folder
        for name in ("mnesia", "log", "home"):
            (f / name).mkdir()
        (f / "enabled_plugins").write_text("[rabbitmq_management].")
        (f / "rabbitmq.conf").write_text(
            f"listeners.tcp.1 = 127.0.0.1:{self.amqp}\nmanagement.tcp.ip = 127.0.0.1\nmanagement.tcp.port = {self.port}\n"
            "vm_memory_high_watermark.absolute = 256MiB\ndisk_free_limit.absolute = 50MB\nlog.console = false\n"
            "log.file = rabbit.log\ncollect_statistics_interval = 1000\n"
        )
        self.own()
        self.start("epmd", "-port", str(epmd), "-address", "127.0.0.1")
        self.start(
            "/usr/lib/rabbitmq/bin/rabbitmq-server", HOME=f"{f}/home", RABBITMQ_NODENAME="quay@localhost",
            RABBITMQ_CONFIG_FILE=f"{f}/rabbitmq", RABBITMQ_ENABLED_PLUGINS_FILE=f"{f}/enabled_plugins",
            RABBITMQ_MNESIA_BASE=f"{f}/mnesia", RABBITMQ_LOG_BASE=f"{f}/log", RABBITMQ_DIST_PORT=str(free_port()),
            RABBITMQ_PID_FILE=f"{f}/pid", RABBITMQ_CONF_ENV_FILE=f"{f}/none", ERL_EPMD_PORT=str(epmd),
            ERL_EPMD_ADDRESS="127.0.0.1",
            RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS="-kernel inet_dist_use_interface {127,0,0,1}",
        )  # fmt: skip
        self.ready(lambda: self.http().get("overview").status_code == 200, 60)
        http = self.http()
        http.put("users/mon", json={"password": "monpw", "tags": "monitoring"})
        http.put("permissions/%2F/mon", json={"configure": "^$", "write": "^$", "read": ".*"})
        http.put("queues/%2F/gates", json={"durable": True})
        for _ in range(5):
            http.post(
                "exchanges/%2F/amq.default/publish",
                json={"properties": {}, "routing_key": "gates", "payload": "m", "payload_encoding": "string"},
            )
        until(lambda: http.get("queues/%2F/gates").json().get("messages") == 5, 30)

    def http(self) -> Any:
        import httpx

        return httpx.Client(base_url=f"http://127.0.0.1:{self.port}/api/", auth=("guest", "guest"), timeout=5)

    @property
    def target(self) -> dict[str, Any]:
        return {"url": f"http://127.0.0.1:{self.port}/api/"}


class Tomcat(Daemon):
    """Tomcat with its manager, the user `mon` of the kit's own grant, and one web application."""

    def __init__(self) -> None:
        super().__init__("tomcat")
        self.port = free_port()
        f = self.folder
        for name in (
            "conf/Catalina/localhost",
            "logs",
            "temp",
            "work",
            "webapps/demo/WEB-INF",
            "webapps/demo/META-INF",
        ):
            (f / name).mkdir(parents=True)
        shutil.copy("/etc/tomcat10/web.xml", f / "conf")
        (f / "conf/server.xml").write_text(
            '<Server port="-1"><Listener className="org.apache.catalina.mbeans.GlobalResourcesLifecycleListener"/>'
            '<GlobalNamingResources><Resource name="UserDatabase" auth="Container" type="org.apache.catalina.UserDatabase" '
            'factory="org.apache.catalina.users.MemoryUserDatabaseFactory" pathname="conf/tomcat-users.xml"/>'
            f'</GlobalNamingResources><Service name="Catalina"><Connector port="{self.port}" address="127.0.0.1" '
            'protocol="HTTP/1.1" maxThreads="20"/><Engine name="Catalina" defaultHost="localhost">'
            '<Realm className="org.apache.catalina.realm.UserDatabaseRealm" resourceName="UserDatabase"/>'
            '<Host name="localhost" appBase="webapps" unpackWARs="true" autoDeploy="false"/></Engine></Service></Server>'
        )
        (f / "conf/tomcat-users.xml").write_text(
            '<tomcat-users><role rolename="manager-status"/><role rolename="manager-jmx"/>'
            '<user username="mon" password="monpw" roles="manager-status,manager-jmx"/></tomcat-users>'
        )
        (f / "conf/Catalina/localhost/manager.xml").write_text(
            '<Context docBase="/usr/share/tomcat10-admin/manager" antiResourceLocking="false" privileged="true"/>'
        )
        (f / "webapps/demo/WEB-INF/web.xml").write_text(
            '<web-app xmlns="https://jakarta.ee/xml/ns/jakartaee" version="5.0"/>'
        )
        (f / "webapps/demo/META-INF/context.xml").write_text(
            '<Context><Resource name="jdbc/booking" auth="Container" type="javax.sql.DataSource" maxTotal="8" '
            'driverClassName="none.Driver" url="jdbc:none:booking"/></Context>'
        )
        (f / "webapps/demo/index.jsp").write_text("hello")
        (f / "conf/logging.properties").write_text(
            ".handlers = java.util.logging.ConsoleHandler\n"
            "java.util.logging.ConsoleHandler.formatter = org.apache.juli.OneLineFormatter\n"
        )
        self.own()
        self.start(
            "/usr/share/tomcat10/bin/catalina.sh", "run", CATALINA_BASE=str(f), CATALINA_HOME="/usr/share/tomcat10",
            CATALINA_TMPDIR=f"{f}/temp", JAVA_OPTS="-Xmx128m -XX:+UseSerialGC -Djava.awt.headless=true",
        )  # fmt: skip
        self.ready(lambda: self.get("/demo/") == 200, 60)

    get = Nginx.get

    @property
    def target(self) -> dict[str, Any]:
        return {"url": f"http://127.0.0.1:{self.port}/manager/"}


class Postfix(Daemon):
    """Postfix that delivers nothing: what is sent to others waits in its deferred queue."""

    def __init__(self) -> None:
        super().__init__()
        self.port = free_port()
        f = self.folder
        for name in ("etc", "spool", "data"):
            (f / name).mkdir()
        for name in ("postfix-files", "dynamicmaps.cf", "post-install", "postfix-script"):
            shutil.copy(f"/etc/postfix/{name}", f / "etc")
        if Path("/etc/postfix/postfix-files.d").exists():
            shutil.copytree("/etc/postfix/postfix-files.d", f / "etc" / "postfix-files.d")
        (f / "etc/main.cf").write_text(
            f"compatibility_level=3.6\nqueue_directory={f}/spool\ndata_directory={f}/data\nmail_owner=postfix\n"
            "setgid_group=postdrop\nmyhostname=mx.test\nmydestination=localhost\ninet_interfaces=loopback-only\n"
            "inet_protocols=ipv4\nmynetworks=127.0.0.0/8\nalias_maps=\nalias_database=\nlocal_recipient_maps=\n"
            f"default_transport=smtp:[127.0.0.1]:{free_port()}\nmaillog_file={f}/maillog\nmaillog_file_prefixes={f}\n"
        )
        (f / "etc/master.cf").write_text(
            f"127.0.0.1:{self.port} inet n - n - - smtpd\npostlog unix-dgram n - n - 1 postlogd\n"
            "pickup unix n - n 60 1 pickup\ncleanup unix n - n - 0 cleanup\nqmgr unix n - n 300 1 qmgr\n"
            "rewrite unix - - n - - trivial-rewrite\nbounce unix - - n - 0 bounce\ndefer unix - - n - 0 bounce\n"
            "trace unix - - n - 0 bounce\nproxymap unix - - n - - proxymap\nanvil unix - - n - 1 anvil\n"
            "smtp unix - - n - - smtp\nerror unix - - n - - error\nretry unix - - n - - error\n"
            "local unix - n n - - local\nshowq unix n - n - - showq\ntlsmgr unix - - n 1000? 1 tlsmgr\n"
        )
        shutil.chown(f / "data", "postfix")
        self.run("postfix", "-c", f"{f}/etc", "check")
        self.start("/usr/lib/postfix/sbin/master", "-c", f"{f}/etc", "-s")
        self.ready(lambda: self.send("nobody@elsewhere.invalid") == {})
        # The queue says why it waits once the first try has failed.
        self.ready(lambda: "refused" in self.run("postqueue", "-c", f"{f}/etc", "-j"))

    def send(self, to: str) -> dict[str, Any]:
        import smtplib

        with smtplib.SMTP("127.0.0.1", self.port, timeout=5) as smtp:
            return smtp.sendmail("gate@skerry.example", [to], "Subject: x\r\n\r\nx\r\n")

    @property
    def target(self) -> dict[str, Any]:
        return {"config": f"{self.folder}/etc", "log": f"{self.folder}/maillog"}


class Dnsmasq(Daemon):
    """A small DNS server that knows `web.test` and tells of its cache."""

    def __init__(self) -> None:
        super().__init__("nobody")
        self.port = free_port()
        self.own()
        self.start(
            "dnsmasq", "--keep-in-foreground", "--conf-file=/dev/null", "--no-resolv", "--no-hosts",
            f"--port={self.port}", "--listen-address=127.0.0.1", "--bind-interfaces", "--user=", "--group=",
            "--pid-file=", "--cache-size=100", "--host-record=web.test,10.1.2.4", "--mx-host=test,mx.test,10",
            "--txt-record=t.test,v=1",
        )  # fmt: skip
        self.ready(lambda: self._asks())

    def _asks(self) -> bool:
        import dns.message
        import dns.query

        question = dns.message.make_query("web.test", "A")
        return bool(dns.query.udp(question, "127.0.0.1", port=self.port, timeout=0.5).answer)

    @property
    def target(self) -> dict[str, Any]:
        return {"address": "127.0.0.1", "port": self.port, "name": "web.test"}


class Bind(Daemon):
    """BIND with a zone and its statistics channel."""

    def __init__(self) -> None:
        super().__init__("bind")
        self.port, self.figures = free_port(), free_port()
        f = self.folder
        (f / "named.conf").write_text(
            f'options {{ directory "{f}"; pid-file "{f}/named.pid"; session-keyfile "{f}/session.key"; '
            f"listen-on port {self.port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; recursion no; dnssec-validation no; "
            "notify no; };\n"
            f"controls {{ }}; statistics-channels {{ inet 127.0.0.1 port {self.figures} allow {{ 127.0.0.1; }}; }};\n"
            f'zone "quay.test" {{ type primary; file "{f}/zone"; }};\n'
        )
        (f / "zone").write_text(
            "$TTL 60\n@ IN SOA ns.quay.test. admin.quay.test. ( 1 3600 600 86400 60 )\n@ IN NS ns.quay.test.\n"
            "ns IN A 127.0.0.1\nwww IN A 10.1.2.3\n"
        )
        self.own()
        self.start("named", "-g", "-c", f"{f}/named.conf")
        self.ready(lambda: time.monotonic() and self._asks())

    def _asks(self) -> bool:
        import dns.message
        import dns.query

        question = dns.message.make_query("www.quay.test", "A")
        return bool(dns.query.udp(question, "127.0.0.1", port=self.port, timeout=0.5).answer)

    @property
    def target(self) -> dict[str, Any]:
        figures = f"http://127.0.0.1:{self.figures}/json/v1/server"
        return {"address": "127.0.0.1", "port": self.port, "name": "www.quay.test", "url": figures}


class Files(Daemon):
    """An FTP server for anybody."""

    def __init__(self) -> None:
        super().__init__()
        self.port = free_port()
        f = self.folder
        (f / "root").mkdir(mode=0o555)
        (f / "empty").mkdir(mode=0o555)
        (f / "v.conf").write_text(
            f"listen=YES\nlisten_address=127.0.0.1\nlisten_port={self.port}\nbackground=NO\nanonymous_enable=YES\n"
            f"no_anon_password=YES\nanon_root={f}/root\nlocal_enable=NO\nftp_username=ftp\nnopriv_user=nobody\n"
            f"secure_chroot_dir={f}/empty\nconnect_from_port_20=NO\nseccomp_sandbox=NO\n"
        )
        self.start("vsftpd", f"{f}/v.conf")
        self.ready(lambda: _greets(self.port).startswith("220"))


class Directory(Daemon):
    """An LDAP server with one entry for the user `cn=mon`."""

    def __init__(self) -> None:
        super().__init__("openldap")
        self.port = free_port()
        f = self.folder
        (f / "db").mkdir()
        (f / "slapd.conf").write_text(
            "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\n"
            f"include /etc/ldap/schema/inetorgperson.schema\npidfile {f}/slapd.pid\nargsfile {f}/slapd.args\n"
            'modulepath /usr/lib/ldap\nmoduleload back_mdb\ndatabase mdb\nsuffix "dc=quay,dc=test"\n'
            f'rootdn "cn=admin,dc=quay,dc=test"\nrootpw adminpw\ndirectory {f}/db\nmaxsize 10485760\n'
            "access to attrs=userPassword by anonymous auth by * none\naccess to * by users read by anonymous none\n"
        )
        (f / "init.ldif").write_text(
            "dn: dc=quay,dc=test\nobjectClass: dcObject\nobjectClass: organization\ndc: quay\no: quay\n\n"
            "dn: cn=mon,dc=quay,dc=test\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: mon\n"
            "userPassword: monpw\n"
        )
        self.own()
        self.run("slapadd", "-f", f"{f}/slapd.conf", "-l", f"{f}/init.ldif")
        self.start("slapd", "-d", "0", "-f", f"{f}/slapd.conf", "-h", f"ldap://127.0.0.1:{self.port}/")
        self.ready(lambda: _connects(self.port))


class Mailbox(Daemon):
    """Dovecot with IMAP and POP3 for the user bob."""

    def __init__(self) -> None:
        super().__init__()
        self.imap, self.pop3 = free_port(), free_port()
        f = self.folder
        for name in ("run", "var", "mail"):
            (f / name).mkdir()
        shutil.chown(f / "mail", "mail")
        mail = pwd.getpwnam("mail")
        (f / "users").write_text("bob:{PLAIN}bobpw::::::\n")
        (f / "dovecot.conf").write_text(
            f"base_dir={f}/run\nstate_dir={f}/var\nlog_path={f}/log\nprotocols=imap pop3\nlisten=127.0.0.1\nssl=no\n"
            f"disable_plaintext_auth=no\nfirst_valid_uid=1\nmail_location=maildir:{f}/mail/bob\npassdb {{\n"
            f"driver=passwd-file\nargs={f}/users\n}}\nuserdb {{\ndriver=static\n"
            f"args=uid={mail.pw_uid} gid={mail.pw_gid} home={f}/mail\n}}\n"
            f"service imap-login {{\ninet_listener imap {{\nport={self.imap}\n}}\ninet_listener imaps {{\nport=0\n}}\n}}\n"
            f"service pop3-login {{\ninet_listener pop3 {{\nport={self.pop3}\n}}\ninet_listener pop3s {{\nport=0\n}}\n}}\n"
        )
        self.start("dovecot", "-F", "-c", f"{f}/dovecot.conf")
        self.ready(lambda: _greets(self.imap).startswith("* OK") and _greets(self.pop3).startswith("+OK"))


def _connects(port: int) -> bool:
    import socket

    with socket.create_connection(("127.0.0.1", port), 1):
        return True


def _greets(port: int) -> str:
    import socket

    with socket.create_connection(("127.0.0.1", port), 1) as talk:
        talk.settimeout(2)
        return talk.recv(200).decode("utf-8", "replace")


def kept(made: Callable[[], Daemon]) -> Iterator[Any]:
    """A daemon for the length of a fixture."""
    daemon = made()
    yield daemon
    daemon.stop()
