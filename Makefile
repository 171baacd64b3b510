# Everything works through these. On a new machine: Python 3.11, Node 20 and make.
PY := .venv/bin/python
BALISE := .venv/bin/balise
LISTEN ?= 127.0.0.1:8808
DATA ?= demo-data
# Real services that tests read; SERVICES=no leaves those tests out and says which.
SERVICES ?= yes
REAL := rsyslog rsyslog-gnutls systemd-journal-remote postgresql-15 nginx redis-server mariadb-server haproxy apache2 rabbitmq-server postfix tomcat10 tomcat10-admin \
	dnsmasq-base bind9 slapd dovecot-imapd dovecot-pop3d vsftpd

# Byte code is kept: a console that compiles itself anew takes two seconds longer to start.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup demo test soak fuzz lint bench screenshots schema agent wheels clean

setup: .venv/.installed src/balise/server/web/index.html

.venv/.installed: pyproject.toml
	@echo "making .venv and installing the Python packages"
	@test -x $(PY) || python3 -m venv .venv
	@$(PY) -m pip install --quiet --upgrade pip
	@$(PY) -m pip install --quiet --editable '.[console,dev]'
	@touch $@

console/node_modules/.installed: console/package-lock.json
	@echo "installing the web console's packages"
	@cd console && npm ci --silent --no-progress
	@touch $@

src/balise/server/web/index.html: console/node_modules/.installed $(shell find console/src console/public console/index.html console/vite.config.ts -type f)
	@echo "building the web console"
	@cd console && npx tsc -b && npx vite build --logLevel warn
	@touch $@

demo: setup
	@exec $(BALISE) demo --data $(DATA) --listen $(LISTEN)

test: setup
	@tools/need chromium openssh-server openssh-client snmpd snmptrapd erlang-snmp iproute2 binutils libpython3-dev $(if $(filter no,$(SERVICES)),,$(REAL))
	@cd console && npx vitest run
	@SERVICES=$(SERVICES) $(PY) -m pytest --numprocesses 3 --dist loadfile --no-loadscope-reorder $(if $(filter no,$(SERVICES)),-rs,)

# The models and the fault run at ten times the length that they have in the suite, then a fleet of five hundred hosts for
# thirteen months with a clock of its own, and ten minutes of hostile load beside 200 agents: two hours or so.
soak: setup
	@SOAK=yes $(PY) -m pytest --numprocesses 2 --dist loadfile tests/store/test_query_model.py tests/core/test_rules_model.py \
	  tests/core/test_filters.py tests/agent/test_following.py tests/agent/test_killed.py tests/server/test_histograms.py tests/collect/test_remote.py tests/server/test_courier.py tests/server/test_faults.py
	@SOAK=yes $(PY) -m pytest tests/store/test_year.py
	@SOAK=yes $(PY) -m pytest -s tests/hard/test_hostile.py

# What the suite does within a bound of time, for as long as it takes: every operation of the API with hundreds of inputs.
fuzz: setup
	@FUZZ=long $(PY) -m pytest tests/hard/test_fuzzed.py tests/hard/test_parsers.py

# Lint, types, layers, and an OpenAPI type file that has drifted from the service.
lint: setup
	@.venv/bin/ruff check src tests bench tools
	@.venv/bin/ruff format --check src tests bench tools
	@.venv/bin/mypy
	@MYPYPATH=src:bench:tests .venv/bin/mypy --explicit-package-bases bench
	@.venv/bin/lint-imports
	@cd console && npx biome check . && npx tsc -b
	@$(PY) tools/openapi.py .venv/openapi.json && cmp .venv/openapi.json console/openapi.json \
	  || (echo "the API has changed: run make schema"; exit 1)
	@cd console && npx openapi-typescript openapi.json -o ../.venv/schema.d.ts >/dev/null && cmp ../.venv/schema.d.ts src/api/schema.d.ts \
	  || (echo "the console's API types have drifted: run make schema"; exit 1)

schema: .venv/.installed console/node_modules/.installed
	@$(PY) tools/openapi.py console/openapi.json
	@cd console && npx openapi-typescript openapi.json -o src/api/schema.d.ts

# Every budget's figure: half an hour. PARTS="rules keeping" measures those alone, QUICK=yes next to nothing of each.
bench: setup
	@tools/need chromium
	@PYTHONPATH=bench:tests $(PY) bench/run.py $(if $(QUICK),--quick) $(PARTS)

screenshots: setup
	@tools/need chromium xvfb xterm imagemagick
	@PYTHONPATH=tests $(PY) tools/screenshots.py

# The agent as one folder that needs no Python, with a script that installs it: for Linux on this kind of processor, with
# a C library no older than this machine's.
agent: setup
	@tools/need binutils libpython3-dev
	@$(PY) -m pip install --quiet --editable '.[build]'
	@tools/build-agent dist/agent
	@echo "dist/agent is ready: take it along, and run: sh agent/install agent --console URL --key KEY"

# All that an agent needs (WITH=relay: a relay), for machines without internet: wheels, and a script that installs them.
wheels: setup
	@rm -rf dist/wheels && mkdir -p dist/wheels
	@$(PY) -m pip wheel --quiet --wheel-dir dist/wheels '.$(if $(WITH),[$(WITH)],)'
	@cp tools/install dist/wheels/install
	@echo "dist/wheels: $$(ls dist/wheels/*.whl | wc -l) wheels; on the other machine: sh wheels/install agent --console URL --key KEY"

clean:
	rm -rf .venv console/node_modules src/balise/server/web
