# Everything that a fresh machine needs is set up by these targets; what is there already is left alone.
PYTHON ?= python3
VENV := .venv
OPENLATCH := $(VENV)/bin/openlatch
BUILT := src/openlatch/api/built/index.html
CONSOLE := $(shell find console/src console/public console/index.html console/vite.config.ts console/package-lock.json -type f 2>/dev/null)

.PHONY: demo demo-reset test test-nightly lint bench console screenshots wheel lock clean

demo: .make/postgresql .make/systems .make/run $(BUILT)
	@exec $(OPENLATCH) demo

demo-reset: .make/postgresql .make/systems .make/run $(BUILT)
	@exec $(OPENLATCH) demo --reset

test: .make/postgresql .make/systems .make/proxy .make/chromium .make/dev $(BUILT)
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	$(VENV)/bin/lint-imports
	cd console && npx eslint . && npx vue-tsc --noEmit && npx vitest run
	$(VENV)/bin/pytest -n 2 --dist loadgroup

# The same tests, with many more examples of each property and random history.
test-nightly: .make/postgresql .make/systems .make/proxy .make/chromium .make/dev $(BUILT)
	HYPOTHESIS_PROFILE=nightly $(VENV)/bin/pytest -n 2 --dist loadgroup

bench: .make/postgresql .make/systems .make/dev
	$(VENV)/bin/python -m bench $(ARGS)

screenshots: .make/postgresql .make/systems .make/chromium .make/terminal .make/dev $(BUILT)
	$(VENV)/bin/python -m bench.screenshots

console: $(BUILT)

# What is installed to run it for real, with the console inside.
wheel: .make/run $(BUILT)
	@rm -rf build
	$(VENV)/bin/pip wheel --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation --wheel-dir dist .

# The types of what the service answers and takes, from the document that a test holds equal to the service's own.
console/src/service/openapi.d.ts: docs/reference/openapi.json .make/node
	cd console && npx openapi-typescript ../docs/reference/openapi.json --output src/service/openapi.d.ts >/dev/null

$(BUILT): .make/node console/src/service/openapi.d.ts $(CONSOLE)
	cd console && npx vite build
	@touch $@

# Stamps. Each says that a step was done for the files that it depends on.
.make/venv:
	@mkdir -p .make
	$(PYTHON) -m venv $(VENV)
	@touch $@

.make/run: .make/venv requirements/run.lock pyproject.toml
	@test -f .make/dev || $(VENV)/bin/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/run.lock
	@$(VENV)/bin/pip install --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation --editable .
	@touch $@

.make/dev: .make/venv requirements/dev.lock pyproject.toml
	$(VENV)/bin/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/dev.lock
	@$(VENV)/bin/pip install --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation --editable .
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
	@for program in slapd ldapsearch dovecot getfacl ssh-keygen cvtsudoers openssl saslpasswd2 /usr/lib/cyrus/bin/httpd; do \
		PATH="$$PATH:/usr/sbin" command -v $$program >/dev/null || missing=yes; \
	done; \
	if [ -n "$$missing" ]; then deploy/install-debian slapd ldap-utils dovecot-imapd acl openssh-client \
			sudo openssl cyrus-caldav sasl2-bin \
		|| { echo "The directory, mail and calendar servers could not be installed from Debian; continuing without them."; exit 0; }; fi; \
	touch $@

# Only for the test of the guide.
.make/proxy:
	@mkdir -p .make
	@PATH="$$PATH:/usr/sbin" command -v nginx >/dev/null || deploy/install-debian nginx-light
	@touch $@

.make/chromium:
	@mkdir -p .make
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || deploy/install-debian chromium chromium-driver
	@touch $@

# Only for the pictures of the command line.
.make/terminal:
	@mkdir -p .make
	@command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null || deploy/install-debian xvfb xterm imagemagick fonts-dejavu-core
	@touch $@

# New versions of what we use: writes the lock files anew.
lock: .make/dev
	$(VENV)/bin/pip install --quiet pip-tools
	cd requirements && ../$(VENV)/bin/pip-compile --quiet --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --allow-unsafe --generate-hashes --strip-extras --upgrade --extra demo --extra report -o run.lock ../pyproject.toml
	cd requirements && ../$(VENV)/bin/pip-compile --quiet --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --allow-unsafe --generate-hashes --strip-extras --extra demo --extra report --extra dev -c run.lock -o dev.lock ../pyproject.toml

clean:
	rm -rf .make $(VENV) console/node_modules console/src/service/openapi.d.ts src/openlatch/api/built .data
