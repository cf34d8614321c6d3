"""What pages, commands and tasks decide by: which plan is today's, what may be rendered, what counts, what is heard.

Above it web and work, below it store (rows and named queries) and core (computing). No request, no queue.
"""
