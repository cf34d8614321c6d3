"""Looking into the folders of lines until what is there has settled."""

import time

from nicelevel.core.arrivals.settling import LEAST_LOOKS

SETTLE_S = 0.1


def settled(*watchers):
    """How many arrivals they put on the queue until all that is there has settled."""
    found = 0
    for _ in range(LEAST_LOOKS + 1):
        found += sum(each.look() for each in watchers)
        time.sleep(SETTLE_S * 0.6)
    return found
