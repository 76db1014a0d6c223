# Everything that a fresh machine needs is set up by these targets; what is there already is left alone.
PYTHON ?= python3
VENV := .venv
OPENLATCH := $(VENV)/bin/openlatch
# A lock file names everything, so nothing is left to resolve; that it fits together is checked at the end.
INSTALL := $(VENV)/bin/pip install --quiet --disable-pip-version-check --require-hashes --no-deps
INSTALL_OWN := $(VENV)/bin/pip install --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation --editable . && $(VENV)/bin/pip check
BUILT := src/openlatch/api/built/index.html
DOCS := src/openlatch/api/docs/index.html
CONSOLE := $(shell find console/src console/public console/languages console/index.html console/vite.config.ts console/texts.ts console/package-lock.json -type f 2>/dev/null)

# Some surroundings switch bytecode off; the dozen processes of a demo would each compile everything anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo docs demo-reset test test-nightly lint bench console screenshots wheel lock clean

demo: .make/postgresql .make/systems .make/run $(BUILT) $(DOCS)
	@exec $(OPENLATCH) demo

demo-reset: .make/postgresql .make/systems .make/run $(BUILT) $(DOCS)
	@exec $(OPENLATCH) demo --reset

test: .make/postgresql .make/systems .make/proxy .make/syslog .make/pool .make/chromium .make/dev $(BUILT) $(DOCS)
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	$(VENV)/bin/lint-imports
	$(VENV)/bin/codespell src docs console/src site deploy README.md CHANGELOG.md CONTRIBUTING.md
	cd console && npx eslint . && npx vue-tsc --noEmit && npx vitest run
	$(VENV)/bin/pytest -n 3 --dist loadgroup

# The same tests, with many more examples of each property and random history.
test-nightly: .make/postgresql .make/systems .make/proxy .make/syslog .make/pool .make/chromium .make/dev $(BUILT) $(DOCS)
	HYPOTHESIS_PROFILE=nightly $(VENV)/bin/pytest -n 3 --dist loadgroup

bench: .make/postgresql .make/systems .make/dev
	$(VENV)/bin/python -m bench $(ARGS)

screenshots: .make/postgresql .make/systems .make/chromium .make/terminal .make/dev $(BUILT) $(DOCS)
	$(VENV)/bin/python -m bench.screenshots

console: $(BUILT)

# What is installed to run it for real, with the console inside.
wheel: .make/run $(BUILT) $(DOCS)
	@rm -rf build
	$(VENV)/bin/pip wheel --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation --wheel-dir dist .

# The types of what the service answers and takes, from the document that a test holds equal to the service's own.
console/src/service/openapi.d.ts: docs/reference/openapi.json .make/node
	cd console && npx openapi-typescript ../docs/reference/openapi.json --output src/service/openapi.d.ts >/dev/null

$(BUILT): .make/node console/src/service/openapi.d.ts $(CONSOLE)
	cd console && npm run --silent build
	@touch $@

# The documentation as pages. A link that leads nowhere fails it.
docs: $(DOCS)

$(DOCS): .make/run mkdocs.yml $(shell find docs site src/openlatch/cli -type f -not -name "*.pyc" 2>/dev/null)
	DISABLE_MKDOCS_2_WARNING=true $(VENV)/bin/python -m mkdocs build --quiet
	@touch $@

# Stamps. Each says that a step was done for the files that it depends on.
.make/venv:
	@mkdir -p .make
	$(PYTHON) -m venv $(VENV)
	@touch $@

.make/run: .make/venv requirements/run.lock pyproject.toml
	@test .make/dev -nt requirements/dev.lock || $(INSTALL) -r requirements/run.lock
	@$(INSTALL_OWN)
	@touch $@

.make/dev: .make/venv requirements/dev.lock pyproject.toml
	$(INSTALL) -r requirements/dev.lock
	@$(INSTALL_OWN)
	@touch $@

.make/node: console/package-lock.json
	@mkdir -p .make
	@# Not "npm ci": it wants packages for every platform in the lock file. This takes what the lock file says, too.
	cd console && npm install --no-save --no-audit --no-fund --ignore-scripts
	@touch $@

.make/postgresql:
	@mkdir -p .make
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || deploy/install-debian postgresql
	@touch $@

# The servers of the other systems. Without them the demo goes on and says so; their tests would fail.
.make/systems: Makefile
	@mkdir -p .make
	@for program in slapd ldapsearch dovecot getfacl ssh-keygen ssh sshd mariadbd cvtsudoers openssl saslpasswd2 /usr/lib/cyrus/bin/httpd; do \
		PATH="$$PATH:/usr/sbin" command -v $$program >/dev/null || missing=yes; \
	done; \
	if [ -n "$$missing" ]; then deploy/install-debian slapd ldap-utils dovecot-imapd acl openssh-client openssh-server mariadb-server \
			sudo openssl cyrus-caldav sasl2-bin \
		|| { echo "The directory, mail and calendar servers could not be installed from Debian; continuing without them."; exit 0; }; fi; \
	touch $@

# Only for the test of the guide.
.make/proxy:
	@mkdir -p .make
	@PATH="$$PATH:/usr/sbin" command -v nginx >/dev/null || deploy/install-debian nginx-light
	@touch $@

# Only for the test of what is forwarded to a syslog server.
.make/syslog:
	@mkdir -p .make
	@PATH="$$PATH:/usr/sbin" command -v rsyslogd >/dev/null && ls /usr/lib/*/rsyslog/lmnsd_gtls.so >/dev/null 2>&1 || deploy/install-debian rsyslog rsyslog-gnutls
	@touch $@

# Only for the test behind a pool of connections.
.make/pool:
	@mkdir -p .make
	@PATH="$$PATH:/usr/sbin" command -v pgbouncer >/dev/null || deploy/install-debian pgbouncer
	@touch $@

.make/chromium:
	@mkdir -p .make
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || deploy/install-debian chromium chromium-driver
	@# Half the work for the same pages; where Debian has no such package, the browser itself will do.
	@command -v chromium-headless-shell >/dev/null || deploy/install-debian chromium-headless-shell || echo "Going on with the whole browser."
	@touch $@

# Only for the pictures of the command line.
.make/terminal:
	@mkdir -p .make
	@command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null || deploy/install-debian xvfb xterm imagemagick fonts-dejavu-core
	@touch $@

# New versions of what we use: writes the lock files anew.
lock: .make/dev
	$(VENV)/bin/pip install --quiet pip-tools
	cd requirements && ../$(VENV)/bin/pip-compile --quiet --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --allow-unsafe --generate-hashes --no-strip-extras --upgrade --extra demo --extra report --extra docs --extra telemetry --extra async --extra archive -o run.lock ../pyproject.toml
	cd requirements && ../$(VENV)/bin/pip-compile --quiet --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --allow-unsafe --generate-hashes --no-strip-extras --extra demo --extra report --extra docs --extra telemetry --extra async --extra archive --extra dev -c run.lock -o dev.lock ../pyproject.toml

clean:
	rm -rf .make $(VENV) console/node_modules console/src/service/openapi.d.ts src/openlatch/api/built src/openlatch/api/docs .data
