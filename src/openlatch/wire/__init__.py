"""The requests and answers that the web and the client share."""

from openlatch.wire.answers import *  # noqa: F403
from openlatch.wire.giving import *  # noqa: F403
from openlatch.wire.requests import *  # noqa: F403
from openlatch.wire.schedules import *  # noqa: F403
