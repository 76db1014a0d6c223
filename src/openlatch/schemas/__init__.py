"""The requests and answers that the web and the client share."""

from openlatch.schemas.access import *  # noqa: F403
from openlatch.schemas.answers import *  # noqa: F403
from openlatch.schemas.ending import *  # noqa: F403
from openlatch.schemas.evidence import *  # noqa: F403
from openlatch.schemas.exposure import *  # noqa: F403
from openlatch.schemas.giving import *  # noqa: F403
from openlatch.schemas.identity import *  # noqa: F403
from openlatch.schemas.lists import *  # noqa: F403
from openlatch.schemas.partners import *  # noqa: F403
from openlatch.schemas.records import *  # noqa: F403
from openlatch.schemas.requests import *  # noqa: F403
from openlatch.schemas.reviews import *  # noqa: F403
from openlatch.schemas.rules import *  # noqa: F403
from openlatch.schemas.set_up import *  # noqa: F403
from openlatch.schemas.system_setup import *  # noqa: F403
from openlatch.schemas.today import *  # noqa: F403
