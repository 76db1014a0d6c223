"""The requests and answers that the API and the client share, a module for each room."""

from openlatch.schemas.access import *  # noqa: F403
from openlatch.schemas.accounts import *  # noqa: F403
from openlatch.schemas.acting import *  # noqa: F403
from openlatch.schemas.base import *  # noqa: F403
from openlatch.schemas.charter import *  # noqa: F403
from openlatch.schemas.evidence import *  # noqa: F403
from openlatch.schemas.exposure import *  # noqa: F403
from openlatch.schemas.flags import *  # noqa: F403
from openlatch.schemas.grants import *  # noqa: F403
from openlatch.schemas.identity import *  # noqa: F403
from openlatch.schemas.journal import *  # noqa: F403
from openlatch.schemas.latches import *  # noqa: F403
from openlatch.schemas.lists import *  # noqa: F403
from openlatch.schemas.notifications import *  # noqa: F403
from openlatch.schemas.offers import *  # noqa: F403
from openlatch.schemas.partners import *  # noqa: F403
from openlatch.schemas.people import *  # noqa: F403
from openlatch.schemas.records import *  # noqa: F403
from openlatch.schemas.requests import *  # noqa: F403
from openlatch.schemas.reviews import *  # noqa: F403
from openlatch.schemas.revocations import *  # noqa: F403
from openlatch.schemas.settings import *  # noqa: F403
from openlatch.schemas.systems import *  # noqa: F403
from openlatch.schemas.today import *  # noqa: F403
from openlatch.schemas.trends import *  # noqa: F403
from openlatch.schemas.webhooks import *  # noqa: F403
