"""The requests and answers that the web and the client share."""

from openlatch.wire.access import *  # noqa: F403
from openlatch.wire.answers import *  # noqa: F403
from openlatch.wire.ending import *  # noqa: F403
from openlatch.wire.evidence import *  # noqa: F403
from openlatch.wire.exposure import *  # noqa: F403
from openlatch.wire.giving import *  # noqa: F403
from openlatch.wire.identity import *  # noqa: F403
from openlatch.wire.lists import *  # noqa: F403
from openlatch.wire.partners import *  # noqa: F403
from openlatch.wire.records import *  # noqa: F403
from openlatch.wire.requests import *  # noqa: F403
from openlatch.wire.reviews import *  # noqa: F403
from openlatch.wire.rules import *  # noqa: F403
from openlatch.wire.set_up import *  # noqa: F403
from openlatch.wire.system_setup import *  # noqa: F403
from openlatch.wire.today import *  # noqa: F403
