"""The API as its document describes it, tried by a program with what fits and with what does not."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import httpx
import pytest

from openlatch.demo.loader import PASSWORD
from openlatch.runtime.demo import Demo
from tests.conftest import ROLES
from tests.seeds import IS_NIGHTLY

# anyio parses itself when it is first imported, which Python 3.11 can't do in two threads at the same time.
RUN = "import runpy, anyio; runpy.run_module('schemathesis.cli', run_name='__main__')"
CHECKS = (
    "not_a_server_error",
    "status_code_conformance",
    "content_type_conformance",
    "response_schema_conformance",
    "negative_data_rejection",
    "unsupported_method",
)
# What does not end, or takes as long as the journal is long.
LEFT_OUT = "/events|/journal/export|/journal/verify"
# Seconds: more than the service itself gives a request. How fast a busy machine answers is not what is tried here.
PATIENCE = 90
SETTINGS = """
[checks.negative_data_rejection]
expected-statuses = [400, 401, 403, 404, 409, 413, 414, 422, 429, 431]
"""
# Of each call. A usual run has few, as whoever may most; each role is another way through the same calls.
EXAMPLES = 2
MOST_EXAMPLES = 250
TRIED_AS = ("administrator", "owner", "delegate") if IS_NIGHTLY else ("administrator",)
PHASES = "examples,coverage,fuzzing,stateful" if IS_NIGHTLY else "examples,fuzzing"


@pytest.mark.parametrize("role", TRIED_AS)
def test_no_request_breaks_the_service_or_its_word(stack: Demo, tmp_path: Path, role: str) -> None:
    """No 5xx, no status that is not documented, no answer of another form, nothing taken that the document forbids."""
    body = {"address": ROLES[role], "password": PASSWORD}
    token = httpx.post(f"{stack.address}/api/v1/tokens", json=body, timeout=30).json()["token"]
    (tmp_path / "settings.toml").write_text(SETTINGS)
    done = subprocess.run(
        [
            sys.executable,
            "-c",
            RUN,
            "--config-file",
            str(tmp_path / "settings.toml"),
            "run",
            f"{stack.address}/api/v1/openapi.json",
            "--url",
            stack.address,
            "--header",
            f"Authorization: Bearer {token}",
            "--max-examples",
            str(MOST_EXAMPLES if IS_NIGHTLY else EXAMPLES),
            "--seed",
            "1",
            "--phases",
            PHASES,
            "--checks",
            ",".join(CHECKS),
            "--exclude-path-regex",
            LEFT_OUT,
            "--no-color",
            "--workers",
            "2",
            "--request-timeout",
            str(PATIENCE),
        ],
        capture_output=True,
        text=True,
        check=False,
        cwd=tmp_path,
    )
    # What was found comes before a long list of advice.
    found = re.search(r"=+ (ERRORS|FAILURES) =+.*?(?==+ WARNINGS =+|\Z)", done.stdout, re.DOTALL)
    told = (found[0][:8000] if found else "") + done.stdout[-1000:] + done.stderr[-2000:]
    assert done.returncode == 0, told
    sent = re.search(r"(\d+) generated", done.stdout)
    assert sent is not None, told
    assert int(sent[1]) >= 300
    assert httpx.get(f"{stack.address}/healthz", timeout=30).status_code == 200
