"""How far everything is that is under way, for pages that show it.

It is asked for, a few times a second by each web server that somebody looks at, and not announced: every announcement
wakes whoever listens to anything, so with many workers that all tell how far they are, that would be all there is.
"""

from .database import database


def progress_now() -> dict[tuple[int, int], float]:
    """Of every source that is measured or rendered now, by job and source: a figure that changes as it goes on."""
    rows = database.execute_sql(
        "SELECT job_id, source.id, sum(deliverable.progress_ratio) FROM deliverable"
        " JOIN source ON source.id = source_id WHERE deliverable.state = 'rendering' GROUP BY job_id, source.id"
        " UNION ALL SELECT job_id, id, progress_ratio FROM source WHERE state = 'measuring'"
    )
    return {(job_id, source_id): ratio for job_id, source_id, ratio in rows.fetchall()}
