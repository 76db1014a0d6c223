"""The tests. Every answer of the service is held against its model while they run."""

import os

os.environ["OPENLATCH_CHECK_ANSWERS"] = "1"
