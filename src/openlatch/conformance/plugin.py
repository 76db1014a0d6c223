"""The plugin by which pytest explains what fails in the suite as it does in tests of one's own."""

from __future__ import annotations

import pytest

pytest.register_assert_rewrite("openlatch.conformance.suite")
